import java.util.ArrayList;
import java.util.List;
import java.util.Scanner;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;

public class Main {
    /** The kilograms of one line: NAME KG KG ... */
    static int weigh(String line) {
        String[] words = line.trim().split("\\s+");
        int sum = 0;
        for (int i = 1; i < words.length; i++) {
            sum += Integer.parseInt(words[i]);
        }
        return sum;
    }

    static int total(List<String> lines) throws InterruptedException, ExecutionException {
        ExecutorService scales = Executors.newFixedThreadPool(4, task -> {
            Thread thread = new Thread(task);
            thread.setDaemon(true);
            return thread;
        });
        List<Future<Integer>> weights = new ArrayList<>();
        for (String line : lines) {
            weights.add(scales.submit(() -> weigh(line)));
        }
        int sum = 0;
        for (Future<Integer> weight : weights) {
            sum += weight.get();
        }
        return sum;
    }

    public static void main(String[] args) throws InterruptedException {
        List<String> lines = new ArrayList<>();
        Scanner in = new Scanner(System.in);
        while (in.hasNextLine()) {
            String line = in.nextLine();
            if (!line.isBlank()) {
                lines.add(line);
            }
        }
        try {
            System.out.println("total " + total(lines));
        } catch (ExecutionException error) {
            System.out.println("cannot be weighed");
        }
    }
}
