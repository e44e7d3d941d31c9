/* Eight queens, by bits and by backtracking. */
#include <stdio.h>
static int place(unsigned columns, unsigned left, unsigned right, unsigned all) {
    if (columns == all) return 1;
    int count = 0;
    for (unsigned free = all & ~(columns | left | right); free; free &= free - 1) { unsigned bit = free & -free; count += place(columns | bit, (left | bit) << 1, (right | bit) >> 1, all); }
    return count;
}
int main(void) { int n = place(0, 0, 0, 255); printf("%d\n", n); return n; }
