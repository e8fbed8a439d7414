#include <stdio.h>

int main(void) {
    long minute, height, high = 0, high_at = 0, low = 0, low_at = 0, n = 0;
    while (scanf("%ld %ld", &minute, &height) == 2) {
        if (n == 0 || height >= high) {
            high = height;
            high_at = minute;
        }
        if (n == 0 || height < low) {
            low = height;
            low_at = minute;
        }
        n++;
    }
    if (n == 0) {
        printf("no readings\n");
        return 1;
    }
    printf("high %ld %ld\nlow %ld %ld\n", high_at, high, low_at, low);
    return 0;
}
