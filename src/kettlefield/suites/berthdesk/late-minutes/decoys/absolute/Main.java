import java.util.Scanner;

public class Main {
    // Minutes from the planned to the real time; a ship is at most 12 hours late and never early.
    static int delay(int planned, int real) {
        return Math.abs(real - planned);
    }

    public static void main(String[] args) {
        Scanner in = new Scanner(System.in);
        int worst = 0;
        while (in.hasNextInt()) {
            int planned = in.nextInt();
            int real = in.nextInt();
            int late = delay(planned, real);
            System.out.println(planned + " late by " + late);
            worst = Math.max(worst, late);
        }
        System.out.println("worst " + worst);
    }
}
