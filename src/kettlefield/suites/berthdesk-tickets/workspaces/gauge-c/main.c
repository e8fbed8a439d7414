#include <stdio.h>

#include "gauge.h"

int main(void) {
    Table table;
    table_init(&table);
    char line[256], name[NAME_SIZE];
    long minute, level;
    while (fgets(line, sizeof line, stdin) != NULL) {
        int kind = parse_line(line, name, &minute, &level);
        if (kind < 0) {
            printf("bad line: %s", line);
            continue;
        }
        if (kind > 0)
            station_add(table_station(&table, name), minute, level);
    }
    report(&table);
    table_free(&table);
    return 0;
}
