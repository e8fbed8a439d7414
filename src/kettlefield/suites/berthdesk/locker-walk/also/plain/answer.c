#include <stdio.h>
#include <stdbool.h>

int main(void) {
    int lockers, s;
    bool open[500] = {false};
    int last[3] = {0, 0, 0}, count = 0;
    scanf("%d%d", &lockers, &s);
    for (int place = 0; !open[place]; place = (place + s) % lockers) {
        open[place] = true;
        last[2] = last[1];
        last[1] = last[0];
        last[0] = place;
        count++;
        if (place % @@turn@@ == 0) s += @@grow@@;
    }
    printf("opened %d\n%d", count, last[0]);
    if (count > 1) printf(" %d", last[1]);
    if (count > 2) printf(" %d", last[2]);
    putchar('\n');
    return 0;
}
