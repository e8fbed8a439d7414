#include <stdlib.h>
#include <string.h>
#include "hold.h"

typedef struct {
    char *name;
    int kg;
} cargo;

struct hold {
    int limit;
    cargo *list;
    size_t count, room;
};

struct hold *hold_new(int limit)
{
    struct hold *h = malloc(sizeof(struct hold));
    if (!h) return NULL;
    h->limit = limit;
    h->list = NULL;
    h->count = h->room = 0;
    return h;
}

static size_t position(const struct hold *h, const char *name)
{
    size_t i = 0;
    while (i < h->count && strcmp(h->list[i].name, name)) i++;
    return i;
}

int hold_weight(const struct hold *h)
{
    int sum = 0;
    for (size_t i = 0; i < h->count; i++) sum += h->list[i].kg;
    return sum;
}

int hold_load(struct hold *h, const char *name, int kg)
{
    if (position(h, name) < h->count) return 0;
    if ((long long)hold_weight(h) + kg > h->limit) return 0;
    if (h->count == h->room) {
        size_t room = h->room ? 2 * h->room : 8;
        cargo *more = realloc(h->list, room * sizeof *more);
        if (!more) return 0;
        h->list = more;
        h->room = room;
    }
    size_t bytes = strlen(name) + 1;
    char *copy = malloc(bytes);
    if (!copy) return 0;
    memcpy(copy, name, bytes);
    h->list[h->count++] = (cargo){copy, kg};
    return 1;
}

int hold_unload(struct hold *h, const char *name)
{
    size_t at = position(h, name);
    if (at == h->count) return -1;
    int kg = h->list[at].kg;
    free(h->list[at].name);
    h->list[at] = h->list[--h->count];
    return kg;
}

void hold_free(struct hold *h)
{
    if (!h) return;
    for (size_t i = 0; i < h->count; i++) free(h->list[i].name);
    free(h->list);
    free(h);
}
