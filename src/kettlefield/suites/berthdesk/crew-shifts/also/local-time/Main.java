import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.time.Duration;
import java.time.LocalTime;
import java.util.Map;
import java.util.TreeMap;

public class Main {
    public static void main(String[] args) throws IOException {
        BufferedReader reader = new BufferedReader(new InputStreamReader(System.in));
        Map<String, Duration> hours = new TreeMap<>();
        String line;
        while ((line = reader.readLine()) != null) {
            if (line.isBlank()) {
                continue;
            }
            String[] words = line.trim().split(" ");
            Duration shift = Duration.between(LocalTime.parse(words[1]), LocalTime.parse(words[2]));
            if (shift.isNegative() || shift.isZero()) {
                shift = shift.plusDays(1);
            }
            hours.put(words[0], hours.getOrDefault(words[0], Duration.ZERO).plus(shift));
        }
        hours.entrySet().stream()
                .sorted(Map.Entry.<String, Duration>comparingByValue().reversed())
                .forEach(e -> System.out.printf("%s %d:%02d%n", e.getKey(), e.getValue().toHours(), e.getValue().toMinutesPart()));
    }
}
