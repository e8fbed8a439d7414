<?php
function valid(string $text): bool
{
    return preg_match('/\A(\d{4})-(\d{2})-(\d{2})\z/', $text, $part) === 1 && checkdate((int) $part[2], (int) $part[3], (int) $part[1]);
}

foreach (explode("\n", stream_get_contents(STDIN)) as $line) {
    $words = array_values(array_filter(explode(' ', trim($line)), 'strlen'));
    if (!$words) {
        continue;
    }
    if (!valid($words[0]) || !valid($words[1]) || strcmp($words[0], $words[1]) > 0) {
        echo 'bad' . PHP_EOL;
        continue;
    }
    $out = [];
    $stop = strtotime($words[1] . ' 12:00 UTC');
    for ($time = strtotime($words[0] . ' 12:00 UTC'); $time <= $stop; $time += 86400) {
        $weekday = (int) gmdate('N', $time);
        $candidates = $weekday === 5 ? [0, 1, 2] : ($weekday < 5 ? [0] : []);
        foreach ($candidates as $later) {
            $of = $time + 86400 * $later;
            if ((int) gmdate('j', $of) === min((int) $words[2], (int) gmdate('t', $of))) {
                $out[] = gmdate('Y-m-d', $time);
            }
        }
    }
    echo ($out ? join(' ', $out) : 'none') . PHP_EOL;
}
