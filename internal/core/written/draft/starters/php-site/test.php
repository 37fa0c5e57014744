<?php
// Posts a passing to the page that runs, and looks whether it is counted.
function counted(string $page): int
{
    return preg_match('/weir eel: (\d+)/', $page, $found) ? (int) $found[1] : 0;
}

$board = getenv('BOARD') . '/';
$before = counted(file_get_contents($board));
$post = ['http' => ['method' => 'POST', 'header' => 'Content-Type: application/x-www-form-urlencoded', 'content' => 'species=weir+eel']];
$after = counted(file_get_contents($board, false, stream_context_create($post)));
if ($after !== $before + 1) {
    fwrite(STDERR, "counted $before before and $after after\n");
    exit(1);
}
echo "1 test holds\n";
