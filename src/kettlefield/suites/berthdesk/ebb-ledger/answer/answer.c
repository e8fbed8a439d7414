#include <stdio.h>

int main(void) {
    long minute, height, @@top@@ = 0, high_at = 0, @@bottom@@ = 0, low_at = 0, n = 0;
    while (scanf("%ld %ld", &minute, &height) == 2) {
        if (n == 0 || height > @@top@@) {
            @@top@@ = height;
            high_at = minute;
        }
        if (n == 0 || height < @@bottom@@) {
            @@bottom@@ = height;
            low_at = minute;
        }
        n++;
    }
    if (n == 0) {
        printf("no readings\n");
        return 1;
    }
    printf("@@top@@ %ld %ld\n@@bottom@@ %ld %ld\n", high_at, @@top@@, low_at, @@bottom@@);
    return 0;
}
