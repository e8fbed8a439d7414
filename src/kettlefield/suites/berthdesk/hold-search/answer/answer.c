#include <stdio.h>

/* Position of the first weight in the sorted array that is not below the limit; count when there is none. */
static int first_at_least(const int *weights, int count, int limit) {
    int low = 0, high = count;
    while (low < high) {
        int middle = low + (high - low) / 2;
        if (weights[middle] < limit) {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    return low;
}

/* Reads how many weights follow, the weights in rising order, then limits; prints the position for each limit. */
int main(void) {
    int count, limit, weights[500];
    if (scanf("%d", &count) != 1 || count > 500) return 1;
    for (int i = 0; i < count; i++) {
        if (scanf("%d", &weights[i]) != 1) return 1;
    }
    while (scanf("%d", &limit) == 1) {
        printf("%d\n", first_at_least(weights, count, limit));
    }
    return 0;
}
