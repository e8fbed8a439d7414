#include <stdio.h>

/*
 * A sluice lets water out in steps. level and sill are in centimetres, gate is 0 (shut) to 3 (open).
 * next_gate gives the gate for the next step:
 *   - @@shut.says@@ the gate is shut;
 *   - @@opens.says@@ @@margin@@ above the sill it opens by one, but not beyond 3;
 *   - anything else leaves it as it is.
 */
static int next_gate(int level, int sill, int gate) {
    if (level @@shut.op@@ sill) return 0;
    if (level @@opens.op@@ sill + @@margin@@ && gate < 3) return gate + 1;
    return gate;
}

/* Reads the sill, then levels until the end of input; the gate is shut at first. Prints the gate after each level, one a line. */
int main(void) {
    int sill, level, gate = 0;
    if (scanf("%d", &sill) != 1) return 1;
    while (scanf("%d", &level) == 1) {
        gate = next_gate(level, sill, gate);
        printf("%d\n", gate);
    }
    return 0;
}
