create table if not exists passings (
  species text not null,
  seen    timestamptz not null default now()
);
