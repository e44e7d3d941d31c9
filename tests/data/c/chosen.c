/* A function chosen when the program starts, and nested functions. */
#include <stdio.h>
static int slow(int x) { return x * 2; } static int fast(int x) { return x << 1; }
static int (*choose(void))(int) { return sizeof(long) > 1 ? fast : slow; }
int twice(int x) __attribute__((ifunc("choose")));
static int apply(int (*f)(int), int n) { int sum = 0; for (int i = 0; i < n; i++) sum += f(i); return sum; }
int main(void) {
    int base = 5; int shifted(int x) { return twice(x) + base; }
    int sum = apply(shifted, 6); base = 7; sum += apply(shifted, 3);
    printf("%d %d\n", sum, twice(21)); return sum & 63;
}
