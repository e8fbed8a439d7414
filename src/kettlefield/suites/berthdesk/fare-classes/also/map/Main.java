import java.util.LinkedHashMap;
import java.util.Map;
import java.util.Scanner;

public class Main {
    public static void main(String[] args) {
        Map<String, Integer> shares = new LinkedHashMap<>();
        shares.put("A", 100);
        shares.put("C", 50);
        shares.put("R", @@resident@@);
        Map<String, Long> revenue = new LinkedHashMap<>();
        shares.keySet().forEach(name -> revenue.put(name, 0L));
        long others = 0;
        try (Scanner input = new Scanner(System.in)) {
            while (input.hasNextLine()) {
                String line = input.nextLine().trim();
                if (line.isEmpty()) continue;
                String[] parts = line.split("\\s+");
                Integer share = shares.get(parts[0]);
                if (share == null) {
                    others += 1;
                    continue;
                }
                long hundredths = Long.parseLong(parts[1]) * share;
                long paid = hundredths / 100 + (hundredths % 100 @@half.op@@ 50 ? 1 : 0);
                revenue.merge(parts[0], paid, Long::sum);
            }
        }
        revenue.forEach((name, pence) -> System.out.println(name + " " + pence));
        System.out.printf("@@word@@ %d%n", others);
    }
}
