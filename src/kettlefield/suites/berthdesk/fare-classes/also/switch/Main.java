import java.math.BigDecimal;
import java.math.RoundingMode;
import java.util.*;

public class Main {
    public static void main(String[] args) {
        Map<String, Long> sold = new LinkedHashMap<>();
        for (String c : List.of("A", "C", "R")) sold.put(c, 0L);
        long unknown = 0;
        Scanner in = new Scanner(System.in);
        while (in.hasNextLine()) {
            String[] ticket = in.nextLine().trim().split("\\s+");
            if (ticket.length < 2) continue;
            BigDecimal price = new BigDecimal(ticket[1]);
            String share;
            switch (ticket[0]) {
                case "A": share = "1"; break;
                case "C": share = "0.5"; break;
                case "R": share = "0.@@resident@@"; break;
                default: unknown++; continue;
            }
            long paid = price.multiply(new BigDecimal(share)).setScale(0, RoundingMode.HALF_@@half.mode@@).longValueExact();
            sold.merge(ticket[0], paid, Long::sum);
        }
        sold.forEach((name, pence) -> System.out.println(name + " " + pence));
        System.out.println("@@word@@ " + unknown);
    }
}
