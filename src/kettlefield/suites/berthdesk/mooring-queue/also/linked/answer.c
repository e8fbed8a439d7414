#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef struct boat {
    char name[21];
    struct boat *next;
} boat;

int main(void)
{
    int n, place;
    boat *berth[51] = {0};
    boat *queue = NULL, **tail = &queue;
    char verb[10], name[21];

    if (scanf("%d", &n) != 1)
        return EXIT_FAILURE;
    while (scanf("%9s %20s", verb, name) == 2) {
        if (verb[0] == 'a') {
            boat *b = calloc(1, sizeof *b);
            strcpy(b->name, name);
            for (place = 1; place <= n && berth[place]; place++)
                ;
            if (place <= n) {
                berth[place] = b;
                printf("%s %d\n", b->name, place);
            } else {
                *tail = b;
                tail = &b->next;
            }
            continue;
        }
        for (place = 1; place <= n; place++)
            if (berth[place] && !strcmp(berth[place]->name, name))
                break;
        if (place <= n) {
            free(berth[place]);
            berth[place] = queue;
            if (queue) {
                queue = queue->next;
                if (!queue)
                    tail = &queue;
                printf("%s %d\n", berth[place]->name, place);
            }
        } else {
            for (boat **at = &queue; *at; at = &(*at)->next) {
                if (strcmp((*at)->name, name))
                    continue;
                boat *gone = *at;
                *at = gone->next;
                if (tail == &gone->next)
                    tail = at;
                free(gone);
                break;
            }
        }
    }
    int waiting = 0;
    while (queue) {
        boat *next = queue->next;
        free(queue);
        queue = next;
        waiting++;
    }
    for (place = 1; place <= n; place++)
        free(berth[place]);
    printf("@@word@@ %d\n", waiting);
    return EXIT_SUCCESS;
}
