/* Pointers to functions, in tables and as arguments. */
#include <stdio.h>
typedef int (*rule)(int, int);
static int add(int a, int b) { return a + b; }
static int take(int a, int b) { return a - b; }
static int times(int a, int b) { return a * b; }
static int fold(rule r, int n, const int *v) { int x = v[0]; for (int i = 1; i < n; i++) x = r(x, v[i]); return x; }
static rule rules[] = { add, take, times };
int main(void) {
    int depths[] = { 9, 4, 7, 2, 5 }, total = 0;
    for (int i = 0; i < 3; i++) { int x = fold(rules[i], 5, depths); printf("%d ", x); total ^= x; }
    puts("");
    return total & 127;
}
