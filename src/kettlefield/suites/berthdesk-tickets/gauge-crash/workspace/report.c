#include <stdio.h>
#include <string.h>

#include "gauge.h"

void report(const Table *table) {
    for (size_t place = 0; place < table->count; place++) {
        const Station *station = &table->stations[place];
        if (strcmp(station->name, ALL) != 0)
            printf("%s %zu %ld %ld\n", station->name, station->readings, station->highest, station->at);
    }
    if (table->count > 0)
        printf("%s %zu\n", ALL, table->stations[1].readings);
}
