#include <stdio.h>
#include <string.h>

#include "gauge.h"

int main(void) {
    Table table;
    table_init(&table);
    char line[256], name[NAME_SIZE];
    long minute, level;
    Station *last = NULL; /* most lines are of the station of the line before */
    while (fgets(line, sizeof line, stdin) != NULL) {
        int kind = parse_line(line, name, &minute, &level);
        if (kind < 0) {
            printf("bad line: %s", line);
            continue;
        }
        if (kind == 0)
            continue;
        if (last == NULL || strcmp(last->name, name) != 0)
            last = table_station(&table, name);
        station_add(last, minute, level);
        station_add(table_station(&table, ALL), minute, level);
    }
    report(&table);
    table_free(&table);
    return 0;
}
