#include <stdio.h>

int main(void) {
    int n, step, at = 0, opened = 0;
    static int open[500], order[500];
    if (scanf("%d %d", &n, &step) != 2) return 1;
    while (!open[at]) {
        open[at] = 1;
        order[opened++] = at;
        if (at % @@turn@@ == 0) step += @@grow@@;
        at = (at + step) % n;
    }
    printf("opened %d\n", opened);
    for (int i = opened - 1; i >= 0 && i > opened - 4; i--) {
        printf(i == opened - 1 ? "%d" : " %d", order[i]);
    }
    printf("\n");
    return 0;
}
