#include "hold.h"

#include <stdlib.h>
#include <string.h>

struct item {
    char *name;
    int kg;
    struct item *next;
};

struct hold {
    int limit;
    int weight;
    struct item *items;
};

struct hold *hold_new(int limit) {
    struct hold *h = calloc(1, sizeof *h);
    if (h != NULL) h->limit = limit;
    return h;
}

static struct item **find(struct hold *h, const char *name) {
    struct item **at = &h->items;
    while (*at != NULL && strcmp((*at)->name, name) != 0) at = &(*at)->next;
    return at;
}

int hold_load(struct hold *h, const char *name, int kg) {
    if (kg > h->limit - h->weight || *find(h, name) != NULL) return 0;
    struct item *item = malloc(sizeof *item);
    if (item == NULL) return 0;
    item->name = malloc(strlen(name) + 1);
    if (item->name == NULL) {
        free(item);
        return 0;
    }
    strcpy(item->name, name);
    item->kg = kg;
    item->next = h->items;
    h->items = item;
    h->weight += kg;
    return 1;
}

int hold_unload(struct hold *h, const char *name) {
    struct item **at = find(h, name);
    struct item *item = *at;
    if (item == NULL) return -1;
    int kg = item->kg;
    *at = item->next;
    h->weight -= kg;
    free(item->name);
    free(item);
    return kg;
}

int hold_weight(const struct hold *h) {
    return h->weight;
}

void hold_free(struct hold *h) {
    while (h->items != NULL) hold_unload(h, h->items->name);
    free(h);
}
