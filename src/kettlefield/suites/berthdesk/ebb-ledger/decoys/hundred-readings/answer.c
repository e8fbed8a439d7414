#include <stdio.h>

int main(void) {
    static long minute[100], height[100];
    int n = 0, high = 0, low = 0;
    while (n < 100 && scanf("%ld %ld", &minute[n], &height[n]) == 2) n++;
    if (n == 0) {
        printf("no readings\n");
        return 1;
    }
    for (int i = 1; i < n; i++) {
        if (height[i] > height[high]) high = i;
        if (height[i] < height[low]) low = i;
    }
    printf("@@top@@ %ld %ld\n@@bottom@@ %ld %ld\n", minute[high], height[high], minute[low], height[low]);
    return 0;
}
