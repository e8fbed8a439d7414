<?php
function readDay(string $text): ?DateTimeImmutable
{
    $day = DateTimeImmutable::createFromFormat('!Y-m-d', $text, new DateTimeZone('UTC'));
    return $day !== false && $day->format('Y-m-d') === $text ? $day : null;
}

function billingDay(DateTimeImmutable $month, int $number): DateTimeImmutable
{
    $length = (int) $month->format('t');
    $day = $month->setDate((int) $month->format('Y'), (int) $month->format('n'), min($number, $length));
    while ((int) $day->format('N') >= 6) {
        $day = $day->modify('-1 day');
    }
    return $day;
}

while (($line = fgets(STDIN)) !== false) {
    if (trim($line) === '') {
        continue;
    }
    [$from, $to, $number] = preg_split('/\s+/', trim($line));
    $first = readDay($from);
    $last = readDay($to);
    if ($first === null || $last === null || $first > $last) {
        echo "bad\n";
        continue;
    }
    $days = [];
    $month = $first->modify('first day of this month');
    $end = $last->modify('first day of next month');
    for (; $month <= $end; $month = $month->modify('+1 month')) {
        $day = billingDay($month, (int) $number);
        if ($day >= $first && $day <= $last) {
            $days[] = $day->format('Y-m-d');
        }
    }
    echo $days === [] ? 'none' : implode(' ', $days), "\n";
}
