<?php
$berths = [];

function parse(string $block): array
{
    [$head, $body] = array_pad(explode("\n\n", $block, 2), 2, '');
    $lines = explode("\n", $head);
    [$method, $target] = explode(' ', array_shift($lines));
    $headers = [];
    foreach ($lines as $line) {
        if (str_contains($line, ':')) {
            [$name, $value] = explode(':', $line, 2);
            $headers[strtolower(trim($name))] = trim($value);
        }
    }
    return [$method, explode('?', $target, 2)[0], $headers, $body];
}

function respond(string $status, mixed $content = null): void
{
    echo $status, "\n";
    if ($content !== null) {
        echo json_encode($content, JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_SLASHES), "\n";
    }
}

function put(array &$berths, int $berth, array $headers, string $body): string
{
    $type = strtolower(trim(explode(';', $headers['content-type'] ?? '')[0]));
    if ($type !== 'application/json') {
        return '415';
    }
    $data = json_decode($body);
    if (!is_object($data) || !is_string($data->ship ?? null) || $data->ship === '') {
        return '400';
    }
    $taken = isset($berths[$berth]);
    if ($taken && ($headers['if-none-match'] ?? '') === '*') {
        return '412';
    }
    $berths[$berth] = $data->ship;
    return $taken ? '204' : '201';
}

$input = str_replace("\r\n", "\n", stream_get_contents(STDIN));
foreach (preg_split('/^--$/m', $input) as $block) {
    $block = trim($block, "\n");
    if ($block === '') {
        continue;
    }
    [$method, $path, $headers, $body] = parse($block);
    if ($path === '/berths') {
        if ($method !== 'GET') {
            respond('405 Allow: GET');
            continue;
        }
        ksort($berths);
        $list = [];
        foreach ($berths as $berth => $ship) {
            $list[] = ['berth' => $berth, 'ship' => $ship];
        }
        respond('200', $list);
    } elseif (preg_match('#^/berths/(\d+)$#D', $path, $found)) {
        $berth = (int) $found[1];
        if ($method === 'PUT') {
            respond(put($berths, $berth, $headers, $body));
        } elseif ($method !== 'GET' && $method !== 'DELETE') {
            respond('405 Allow: GET, PUT, DELETE');
        } elseif (!isset($berths[$berth])) {
            respond('404');
        } elseif ($method === 'GET') {
            respond('200', ['berth' => $berth, 'ship' => $berths[$berth]]);
        } else {
            unset($berths[$berth]);
            respond('204');
        }
    } else {
        respond('404');
    }
}
