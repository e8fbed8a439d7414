import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Scanner;

public class Main {
    static int minutes(String time) {
        String[] parts = time.split(":");
        return Integer.parseInt(parts[0]) * 60 + Integer.parseInt(parts[1]);
    }

    public static void main(String[] args) {
        Scanner in = new Scanner(System.in);
        Map<String, Integer> worked = new HashMap<>();
        while (in.hasNext()) {
            String name = in.next();
            int begin = minutes(in.next());
            int end = minutes(in.next());
            int length = end > begin ? end - begin : end - begin + 1440;
            worked.merge(name, length, Integer::sum);
        }
        List<String> names = new ArrayList<>(worked.keySet());
        names.sort((a, b) -> {
            int byTime = worked.get(b).compareTo(worked.get(a));
            return byTime != 0 ? byTime : a.compareTo(b);
        });
        for (String name : names) {
            int total = worked.get(name);
            System.out.println(name + " " + total / 60 + ":" + String.format("%02d", total % 60));
        }
    }
}
