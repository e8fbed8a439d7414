#include <stdio.h>
#include <stdlib.h>

struct reading {
    int minute;
    int height;
};

int main(void)
{
    struct reading now, most = {0, 0}, least = {0, 0};
    int seen = 0;
    char line[256];

    while (fgets(line, sizeof line, stdin) != NULL) {
        if (sscanf(line, "%d %d", &now.minute, &now.height) != 2)
            continue;
        if (!seen) {
            most = least = now;
            seen = 1;
            continue;
        }
        if (now.height > most.height)
            most = now;
        else if (now.height < least.height)
            least = now;
    }
    if (!seen) {
        puts("no readings");
        return EXIT_FAILURE;
    }
    printf("@@top@@ %d %d\n", most.minute, most.height);
    printf("@@bottom@@ %d %d\n", least.minute, least.height);
    return EXIT_SUCCESS;
}
