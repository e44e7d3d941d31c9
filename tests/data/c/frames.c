/* Rooms of variable size on the stack, and many arguments. */
#include <stdio.h>
#include <string.h>
static int many(int a, int b, int c, int d, int e, int f, int g, int h, double x, double y, long long i, char j) { return a + 2 * b + 3 * c + 4 * d + 5 * e + 6 * f + 7 * g + 8 * h + (int)(x * y) + (int)i - j; }
static int room(int n) { char v[n * 3 + 1]; memset(v, n, sizeof v); int sum = 0; for (unsigned i = 0; i < sizeof v; i++) sum += v[i]; return sum; }
int main(void) { int total = 0; for (int i = 1; i < 40; i++) total += room(i) % 17; total += many(1, 2, 3, 4, 5, 6, 7, 8, 2.5, 4.0, 99LL, 'a'); printf("%d\n", total); return total & 127; }
