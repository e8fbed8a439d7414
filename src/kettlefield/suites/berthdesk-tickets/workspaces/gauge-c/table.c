#include <stdlib.h>
#include <string.h>

#include "gauge.h"

void table_init(Table *table) {
    table->stations = NULL;
    table->count = table->room = 0;
}

void table_free(Table *table) {
    free(table->stations);
    table_init(table);
}

Station *table_station(Table *table, const char *name) {
    for (size_t place = 0; place < table->count; place++)
        if (strcmp(table->stations[place].name, name) == 0)
            return &table->stations[place];
    if (table->count == table->room) {
        table->room = table->room ? 2 * table->room : 4;
        table->stations = realloc(table->stations, table->room * sizeof *table->stations);
        if (table->stations == NULL)
            abort();
    }
    Station *station = &table->stations[table->count++];
    memset(station, 0, sizeof *station);
    strcpy(station->name, name);
    return station;
}

void station_add(Station *station, long minute, long level) {
    if (station->readings == 0 || level > station->highest) {
        station->highest = level;
        station->at = minute;
    }
    station->readings++;
}
