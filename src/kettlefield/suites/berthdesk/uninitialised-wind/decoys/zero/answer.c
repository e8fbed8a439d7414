#include <stdio.h>

int strongest(const int *gusts, int count) {
    int best = 0;
    for (int i = 0; i < count; i++) {
        if (gusts[i] > best) {
            best = gusts[i];
        }
    }
    return best;
}

int main(void) {
    int gusts[400], count = 0;
    while (count < 400 && scanf("%d", &gusts[count]) == 1) {
        count++;
    }
    if (count == 0) {
        printf("calm\n");
        return 0;
    }
    printf("strongest %d\n", strongest(gusts, count));
    return 0;
}
