#include <stdio.h>

#include "gauge.h"

void report(const Table *table) {
    for (size_t place = 0; place < table->count; place++) {
        const Station *station = &table->stations[place];
        printf("%s %zu %ld %ld\n", station->name, station->readings, station->highest, station->at);
    }
}
