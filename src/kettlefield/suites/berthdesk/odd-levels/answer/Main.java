public class Main {
    public static void main(String[] args) {
        var in = new java.util.Scanner(System.in);
        int odd = 0;
        while (in.hasNextInt()) {
            if (in.nextInt() % 2 != 0) odd++;
        }
        System.out.println("odd " + odd);
    }
}
