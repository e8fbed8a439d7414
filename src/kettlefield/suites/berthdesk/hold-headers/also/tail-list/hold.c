#include <stdlib.h>
#include <string.h>

#include "hold.h"

typedef struct cargo {
    struct cargo *next;
    int kg;
    char name[];
} cargo;

struct hold {
    cargo *first;
    long long weight;
    long long limit;
};

struct hold *hold_new(int limit)
{
    struct hold *h = malloc(sizeof(struct hold));
    if (!h)
        return NULL;
    h->first = NULL;
    h->weight = 0;
    h->limit = limit;
    return h;
}

static cargo *lookup(const struct hold *h, const char *name)
{
    for (cargo *c = h->first; c; c = c->next)
        if (!strcmp(c->name, name))
            return c;
    return NULL;
}

int hold_load(struct hold *h, const char *name, int kg)
{
    size_t size = strlen(name) + 1;
    if (lookup(h, name) || h->weight + kg > h->limit)
        return 0;
    cargo *c = malloc(sizeof(cargo) + size);
    if (!c)
        return 0;
    memcpy(c->name, name, size);
    c->kg = kg;
    c->next = h->first;
    h->first = c;
    h->weight += kg;
    return 1;
}

int hold_unload(struct hold *h, const char *name)
{
    cargo *before = NULL;
    for (cargo *c = h->first; c; before = c, c = c->next) {
        if (strcmp(c->name, name))
            continue;
        if (before)
            before->next = c->next;
        else
            h->first = c->next;
        int kg = c->kg;
        h->weight -= kg;
        free(c);
        return kg;
    }
    return -1;
}

int hold_weight(const struct hold *h)
{
    return (int)h->weight;
}

void hold_free(struct hold *h)
{
    if (!h)
        return;
    cargo *c = h->first;
    while (c) {
        cargo *next = c->next;
        free(c);
        c = next;
    }
    free(h);
}
