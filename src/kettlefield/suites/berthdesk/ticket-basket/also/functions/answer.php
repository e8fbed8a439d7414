<?php
declare(strict_types=1);

function pence(array $count): int
{
    $price = ["adult" => 870, "child" => 435, "dog" => 200, "bike" => 310];
    $sum = 0;
    foreach ($price as $name => $each) {
        $sum += $each * ($count[$name] ?? 0);
    }
    return $sum;
}

$count = [];
foreach (file("php://stdin", FILE_IGNORE_NEW_LINES | FILE_SKIP_EMPTY_LINES) as $line) {
    if (sscanf($line, "%s %d", $word, $number) < 2) {
        continue;
    }
    if (!in_array($word, ["adult", "child", "dog", "bike"], true)) {
        print "unknown $word" . PHP_EOL;
        continue;
    }
    $count[$word] = ($count[$word] ?? 0) + $number;
}
$adults = $count["adult"] ?? 0;
$pairs = (int) floor(min($adults, $count["child"] ?? 0) / 2);
$free = (int) min($count["bike"] ?? 0, floor($adults / 4));
$sum = pence($count) - $pairs * 510 - $free * 310;
$sum -= $sum @@large.op@@ 10000 ? (int) @@round.also@@($sum / 20) : 0;
print "family $pairs" . PHP_EOL . "total " . number_format($sum / 100, 2, ".", "") . PHP_EOL;
