#include <stdio.h>
#include <string.h>

#include "gauge.h"

int parse_line(const char *line, char name[NAME_SIZE], long *minute, long *level) {
    if (line[strspn(line, " \t\r\n")] == '\0' || line[0] == '#')
        return 0;
    int used = 0;
    if (sscanf(line, "%15s %ld %ld %n", name, minute, level, &used) != 3 || line[used] != '\0')
        return -1;
    return 1;
}
