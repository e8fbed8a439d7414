import java.io.BufferedReader;
import java.io.InputStreamReader;
import java.util.Comparator;
import java.util.Map;
import java.util.TreeMap;

public class Main {
    public static void main(String[] args) throws Exception {
        var sums = new TreeMap<String, Integer>();
        try (var in = new BufferedReader(new InputStreamReader(System.in))) {
            String line;
            while ((line = in.readLine()) != null) {
                if (line.isBlank()) continue;
                String[] p = line.trim().split(" ");
                int from = at(p[1]), to = at(p[2]);
                if (to <= from) to += 24 * 60;
                sums.put(p[0], sums.getOrDefault(p[0], 0) + to - from);
            }
        }
        sums.entrySet().stream()
            .sorted(Map.Entry.<String, Integer>comparingByValue(Comparator.reverseOrder()))
            .forEach(e -> System.out.printf("%s %d:%02d%n", e.getKey(), e.getValue() / 60, e.getValue() % 60));
    }

    private static int at(String hhmm) {
        return Integer.parseInt(hhmm.substring(0, 2)) * 60 + Integer.parseInt(hhmm.substring(3));
    }
}
