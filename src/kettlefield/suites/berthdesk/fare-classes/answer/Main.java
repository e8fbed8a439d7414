import java.util.Scanner;

public class Main {
    public static void main(String[] args) {
        Scanner in = new Scanner(System.in);
        String classes = "ACR";
        int[] percent = {100, 50, @@resident@@};
        long[] revenue = new long[3];
        int @@word@@ = 0;
        while (in.hasNext()) {
            int which = classes.indexOf(in.next());
            long price = in.nextLong();
            if (which < 0) {
                @@word@@++;
            } else {
                revenue[which] += (price * percent[which] + @@half.add@@) / 100;
            }
        }
        for (int i = 0; i < 3; i++) {
            System.out.println(classes.charAt(i) + " " + revenue[i]);
        }
        System.out.println("@@word@@ " + @@word@@);
    }
}
