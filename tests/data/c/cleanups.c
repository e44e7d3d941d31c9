/* Work that is done however a scope is left: tables of exception handling. */
#include <stdio.h>
static int depth, left;
static void leave(int *number) { depth -= *number; left++; }
static int __attribute__((noinline)) check(int value) { return value > 3 ? -1 : value; }
static int climb(int stairs) {
    int here __attribute__((cleanup(leave))) = stairs;
    depth += here;
    if (check(stairs) < 0) return 100;
    { int inner __attribute__((cleanup(leave))) = 2; depth += inner; if (stairs == 2) return puts("landing"), 7; printf("%d\n", check(stairs)); }
    return stairs + climb(stairs + 1);
}
int main(void) { int top = climb(0); printf("%d %d %d\n", top, depth, left); return left; }
