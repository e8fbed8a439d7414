#include <stdio.h>

/* Adds up the cargo of a day, in grams, and prints it in whole kilograms. */
int main(void) {
    int grams[1000], count = 0;
    long long sum = 0;
    while (count < 1000 && scanf("%d", &grams[count]) == 1) {
        sum += grams[count];
        count++;
    }
    printf("%lld kg\n", sum / 1000);
    return 0;
}
