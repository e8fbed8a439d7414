<?php
// Prints for each route the share of sailings that were on time, in whole per cent, and the worst delay.
$routes = [];
foreach (file('php://stdin', FILE_IGNORE_NEW_LINES) as $line) {
    if (trim($line) === '') {
        continue;
    }
    [$route, $delay] = explode(' ', $line);
    $routes[$route][] = (int) $delay;
}

function share(array $delays): int
{
    $onTime = array_filter($delays, fn ($delay) => $delay <= 5);
    return intdiv(count($onTime) * 100, count($delays));
}

foreach ($routes as $route => $delays) {
    sort($delays);
    echo $route, ': ', share($delays), ' %, worst ', $delays[count($delays) - 1], "\n";
}
