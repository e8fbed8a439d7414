<?php
const PRICES = ['adult' => 870, 'child' => 435, 'dog' => 200, 'bike' => 310];
const FAMILY = 2100;

$basket = array_fill_keys(array_keys(PRICES), 0);
while (($line = fgets(STDIN)) !== false) {
    $words = preg_split('/\s+/', trim($line));
    if ($words[0] === '') {
        continue;
    }
    if (!isset(PRICES[$words[0]])) {
        echo "unknown {$words[0]}\n";
        continue;
    }
    $basket[$words[0]] += (int) $words[1];
}

$families = min(intdiv($basket['adult'], 2), intdiv($basket['child'], 2));
$total = 0;
foreach ($basket as $item => $number) {
    $total += PRICES[$item] * $number;
}
$total -= $families * (2 * PRICES['adult'] + 2 * PRICES['child'] - FAMILY);
$total -= PRICES['bike'] * min($basket['bike'], intdiv($basket['adult'], 4));
if ($total @@large.op@@ 10000) {
    $total -= @@round.own@@;
}
echo "family $families\n";
printf("total %d.%02d\n", intdiv($total, 100), $total % 100);
