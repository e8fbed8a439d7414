#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include "hold.h"

int main(void)
{
    char line[256], name[64];
    int limit, kg, result;
    if (!fgets(line, sizeof line, stdin)) return 1;
    limit = atoi(line);
    struct hold *h = hold_new(limit);
    if (h == NULL) return 1;
    while (fgets(line, sizeof line, stdin)) {
        if (sscanf(line, "load %63s %d", name, &kg) == 2)
            result = hold_load(h, name, kg);
        else if (sscanf(line, "unload %63s", name) == 1)
            result = hold_unload(h, name);
        else
            continue;
        printf("%d %d\n", result, hold_weight(h));
    }
    hold_free(h);
    return 0;
}
