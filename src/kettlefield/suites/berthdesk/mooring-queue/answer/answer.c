#include <stdio.h>
#include <string.h>

#define NAME_SIZE 32

static char moored[51][NAME_SIZE];
static char queue[256][NAME_SIZE];
static int waiting;

static void drop_from_queue(int at) {
    for (int i = at; i + 1 < waiting; i++) strcpy(queue[i], queue[i + 1]);
    waiting--;
}

int main(void) {
    int n;
    char word[16], name[NAME_SIZE];
    if (scanf("%d", &n) != 1) return 1;
    while (scanf("%15s %31s", word, name) == 2) {
        if (strcmp(word, "arrive") == 0) {
            int at = 1;
            while (at <= n && moored[at][0]) at++;
            if (at <= n) {
                strcpy(moored[at], name);
                printf("%s %d\n", name, at);
            } else {
                strcpy(queue[waiting++], name);
            }
            continue;
        }
        for (int i = 0; i < waiting; i++) {
            if (strcmp(queue[i], name) == 0) {
                drop_from_queue(i);
                break;
            }
        }
        for (int i = 1; i <= n; i++) {
            if (strcmp(moored[i], name) != 0) continue;
            moored[i][0] = 0;
            if (waiting > 0) {
                strcpy(moored[i], queue[0]);
                drop_from_queue(0);
                printf("%s %d\n", moored[i], i);
            }
            break;
        }
    }
    printf("@@word@@ %d\n", waiting);
    return 0;
}
