#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>

typedef struct {
    bool *is_open;
    int count;
    int recent[3];
} Walk;

int main(void)
{
    int lockers, stride;
    if (scanf("%d%d", &lockers, &stride) != 2)
        return 1;
    Walk walk = {calloc((size_t)lockers, sizeof(bool)), 0, {-1, -1, -1}};
    if (!walk.is_open)
        return 1;
    for (int place = 0; !walk.is_open[place]; place = (place + stride) % lockers) {
        walk.is_open[place] = true;
        walk.count++;
        walk.recent[2] = walk.recent[1];
        walk.recent[1] = walk.recent[0];
        walk.recent[0] = place;
        if (place % @@turn@@ == 0)
            stride += @@grow@@;
    }
    printf("opened %d\n%d", walk.count, walk.recent[0]);
    for (int i = 1; i < 3; i++)
        if (walk.recent[i] >= 0)
            printf(" %d", walk.recent[i]);
    putchar('\n');
    free(walk.is_open);
    return 0;
}
