#include <stdio.h>
#include <string.h>

#include "hold.h"

/* Two holds at once, names longer than the program's own, and loads near the largest int. */
int main(void) {
    char name[4001];
    struct hold *a = hold_new(2147483647);
    struct hold *b = hold_new(10);
    if (a == NULL || b == NULL) return 1;
    memset(name, 'x', 4000);
    name[4000] = 0;
    printf("%d\n", hold_load(a, name, 2000000000));
    name[3999] = 'y';
    printf("%d\n", hold_load(a, name, 1000000000));
    printf("%d\n", hold_load(a, name, 147483647));
    printf("%d\n", hold_load(b, name, 3));
    name[0] = 'z';
    int none = hold_unload(a, name);
    printf("%d %d\n", none, hold_unload(b, name));
    name[0] = 'x';
    printf("%d %d\n", hold_weight(a), hold_weight(b));
    int kg = hold_unload(a, name);
    printf("%d %d\n", kg, hold_weight(a));
    hold_free(a);
    hold_free(b);
    return 0;
}
