<?php
// The database of passings, with its table.
function ledger(): PDO
{
    $at = parse_url(getenv('LEDGER_URL'));
    $dsn = sprintf('mysql:host=%s;port=%d;dbname=%s;charset=utf8mb4', $at['host'], $at['port'], trim($at['path'], '/'));
    $ledger = new PDO($dsn, $at['user'], urldecode($at['pass']), [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
    $ledger->exec('create table if not exists passings (species varchar(40) not null, seen timestamp default current_timestamp)');
    return $ledger;
}
