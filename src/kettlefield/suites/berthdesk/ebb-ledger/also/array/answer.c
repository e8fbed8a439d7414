#include <limits.h>
#include <stdio.h>

struct reading {
    int minute;
    int height;
};

int main(void) {
    struct reading top = {0, INT_MIN}, bottom = {0, INT_MAX}, now;
    int any = 0;
    char line[128];
    while (fgets(line, sizeof line, stdin) != NULL) {
        if (sscanf(line, "%d %d", &now.minute, &now.height) != 2) continue;
        if (!any || now.height > top.height) top = now;
        if (!any || now.height < bottom.height) bottom = now;
        any = 1;
    }
    if (!any) {
        puts("no readings");
        return 1;
    }
    printf("@@top@@ %d %d\n", top.minute, top.height);
    printf("@@bottom@@ %d %d\n", bottom.minute, bottom.height);
    return 0;
}
