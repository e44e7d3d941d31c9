/* qsort and bsearch of the C library, and a sort by hand. */
#include <stdio.h>
#include <stdlib.h>
static int by_value(const void *a, const void *b) { int x = *(const int *)a, y = *(const int *)b; return (x > y) - (x < y); }
int main(void) {
    int v[200]; unsigned seed = 7;
    for (int i = 0; i < 200; i++) { seed = seed * 1103515245u + 12345u; v[i] = (int)(seed >> 16) % 1000; }
    int w[200];
    for (int i = 0; i < 200; i++) w[i] = v[i];
    qsort(v, 200, sizeof *v, by_value);
    for (int i = 1; i < 200; i++) { int x = w[i], j = i; while (j > 0 && w[j - 1] > x) { w[j] = w[j - 1]; j--; } w[j] = x; }
    int same = 1;
    for (int i = 0; i < 200; i++) same &= v[i] == w[i];
    int key = v[77];
    int *found = bsearch(&key, v, 200, sizeof *v, by_value);
    printf("%d %d %d %d %d\n", same, v[0], v[100], v[199], found && *found == key);
    return same;
}
