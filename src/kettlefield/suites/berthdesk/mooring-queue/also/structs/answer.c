#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef struct boat {
    char name[21];
    struct boat *behind;
} boat;

int main(void) {
    int n;
    char line[64], what[10], name[21];
    boat *berth[51] = {0}, *first = NULL;
    if (!fgets(line, sizeof line, stdin) || sscanf(line, "%d", &n) != 1) return 1;
    while (fgets(line, sizeof line, stdin)) {
        if (sscanf(line, "%9s %20s", what, name) != 2) continue;
        if (what[0] == 'a') {
            boat *b = calloc(1, sizeof *b);
            strcpy(b->name, name);
            int m = 1;
            while (m <= n && berth[m] != NULL) m++;
            if (m <= n) {
                berth[m] = b;
                printf("%s %d\n", b->name, m);
            } else {
                boat **end = &first;
                while (*end) end = &(*end)->behind;
                *end = b;
            }
        } else {
            boat **at = &first;
            while (*at && strcmp((*at)->name, name) != 0) at = &(*at)->behind;
            if (*at) {
                boat *gone = *at;
                *at = gone->behind;
                free(gone);
                continue;
            }
            for (int m = 1; m <= n; m++) {
                if (!berth[m] || strcmp(berth[m]->name, name) != 0) continue;
                free(berth[m]);
                berth[m] = first;
                if (first) {
                    first = first->behind;
                    printf("%s %d\n", berth[m]->name, m);
                }
                break;
            }
        }
    }
    int waiting = 0;
    while (first) {
        boat *next = first->behind;
        free(first);
        first = next;
        waiting++;
    }
    for (int m = 1; m <= n; m++) free(berth[m]);
    printf("@@word@@ %d\n", waiting);
    return 0;
}
