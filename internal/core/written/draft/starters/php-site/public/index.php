<?php
// The page in the visitors' hut.
require __DIR__ . '/../ledger.php';

$ledger = ledger();
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $ledger->prepare('insert into passings (species) values (?)')->execute([$_POST['species'] ?? '']);
}
echo "<!doctype html><title>Heron Weir</title><h1>Today at the ladder</h1><ul>";
foreach ($ledger->query('select species, count(*) as n from passings group by species order by species') as $row) {
    printf("<li>%s: %d</li>", htmlspecialchars($row['species']), $row['n']);
}
echo "</ul>\n";
