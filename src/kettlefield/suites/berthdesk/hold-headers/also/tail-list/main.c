#include <stdio.h>
#include <stdlib.h>

#include "hold.h"

int main(void)
{
    char line[256], name[128];
    int limit, kg;
    if (!fgets(line, sizeof line, stdin) || sscanf(line, "%d", &limit) != 1)
        return EXIT_FAILURE;
    struct hold *hold = hold_new(limit);
    if (!hold)
        return EXIT_FAILURE;
    while (fgets(line, sizeof line, stdin)) {
        int result;
        if (sscanf(line, "load %127s %d", name, &kg) == 2)
            result = hold_load(hold, name, kg);
        else if (sscanf(line, "unload %127s", name) == 1)
            result = hold_unload(hold, name);
        else
            continue;
        printf("%d %d\n", result, hold_weight(hold));
    }
    hold_free(hold);
    return EXIT_SUCCESS;
}
