<?php
final class Service
{
    private array $taken = [];

    public function answer(string $method, string $path, array $fields, string $body): array
    {
        if ($path === "/berths") {
            return $method === "GET" ? [200, $this->all()] : ["405 Allow: GET"];
        }
        if (preg_match('~\A/berths/([0-9]+)\z~', $path, $match) !== 1) {
            return [404];
        }
        $number = intval($match[1]);
        $is = array_key_exists($number, $this->taken);
        switch ($method) {
            case "PUT":
                return [$this->put($number, $is, $fields, $body)];
            case "GET":
                return $is ? [200, $this->one($number)] : [404];
            case "DELETE":
                unset($this->taken[$number]);
                return [$is ? 204 : 404];
        }
        return ["405 Allow: GET, PUT, DELETE"];
    }

    private function put(int $number, bool $is, array $fields, string $body): int
    {
        if (!preg_match('~\A\s*application/json\s*(;|\z)~i', $fields["content-type"] ?? "")) {
            return 415;
        }
        $ship = json_decode($body, true)["ship"] ?? null;
        if (!is_string($ship) || strlen($ship) === 0) {
            return 400;
        }
        if ($is && ($fields["if-none-match"] ?? null) === "*") {
            return 412;
        }
        $this->taken[$number] = $ship;
        return $is ? 204 : 201;
    }

    private function one(int $number): array
    {
        return ["berth" => $number, "ship" => $this->taken[$number]];
    }

    private function all(): array
    {
        $numbers = array_keys($this->taken);
        sort($numbers);
        return array_map(fn ($number) => $this->one($number), $numbers);
    }
}

$service = new Service();
$requests = [[]];
while (($line = fgets(STDIN)) !== false) {
    $line = rtrim($line, "\r\n");
    if ($line === "--") {
        $requests[] = [];
    } else {
        $requests[count($requests) - 1][] = $line;
    }
}
foreach ($requests as $lines) {
    if (trim(implode("", $lines)) === "") {
        continue;
    }
    [$method, $target] = explode(" ", $lines[0]);
    $empty = array_search("", $lines, true);
    $end = $empty === false ? count($lines) : $empty;
    $fields = [];
    for ($i = 1; $i < $end; $i++) {
        $colon = strpos($lines[$i], ":");
        $fields[strtolower(substr($lines[$i], 0, $colon))] = trim(substr($lines[$i], $colon + 1));
    }
    $body = implode("\n", array_slice($lines, $end + 1));
    $reply = $service->answer($method, strtok($target, "?"), $fields, $body);
    echo $reply[0] . "\n";
    if (isset($reply[1])) {
        echo json_encode($reply[1]) . "\n";
    }
}
