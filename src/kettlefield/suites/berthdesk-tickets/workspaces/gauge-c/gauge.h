#ifndef GAUGE_H
#define GAUGE_H

#include <stddef.h>

#define NAME_SIZE 16

typedef struct {
    char name[NAME_SIZE];
    size_t readings;
    long highest;
    long at; /* minute of the highest reading */
} Station;

typedef struct {
    Station *stations;
    size_t count;
    size_t room;
} Table;

/* parse.c: 1 for a reading, 0 for a remark or an empty line, -1 for anything else */
int parse_line(const char *line, char name[NAME_SIZE], long *minute, long *level);

/* table.c */
void table_init(Table *table);
void table_free(Table *table);
Station *table_station(Table *table, const char *name);
void station_add(Station *station, long minute, long level);

/* report.c */
void report(const Table *table);

#endif
