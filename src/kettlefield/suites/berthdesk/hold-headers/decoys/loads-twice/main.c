#include <stdio.h>
#include <string.h>

#include "hold.h"

int main(void) {
    int limit, kg;
    char word[16], name[64];
    if (scanf("%d", &limit) != 1) return 1;
    struct hold *h = hold_new(limit);
    if (h == NULL) return 1;
    while (scanf("%15s %63s", word, name) == 2) {
        int result;
        if (strcmp(word, "load") == 0) {
            if (scanf("%d", &kg) != 1) break;
            result = hold_load(h, name, kg);
        } else {
            result = hold_unload(h, name);
        }
        printf("%d %d\n", result, hold_weight(h));
    }
    hold_free(h);
    return 0;
}
