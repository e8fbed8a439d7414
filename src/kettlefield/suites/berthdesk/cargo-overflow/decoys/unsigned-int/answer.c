#include <stdio.h>

/* Adds up the cargo of a day, in grams, and prints it in whole kilograms. */
static unsigned int total_grams(const int *grams, int count) {
    unsigned int total = 0;
    for (int i = 0; i < count; i++) {
        total += grams[i];
    }
    return total;
}

int main(void) {
    int grams[1000], count = 0;
    while (count < 1000 && scanf("%d", &grams[count]) == 1) {
        count++;
    }
    printf("%u kg\n", total_grams(grams, count) / 1000);
    return 0;
}
