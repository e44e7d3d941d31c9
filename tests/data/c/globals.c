/* Data with initial values, addresses in data, and variables local to a file. */
#include <stdio.h>
static int depth[] = { 3, 1, 4, 1, 5, 9, 2, 6 }; static int *deepest = &depth[5]; static const char *names[] = { "Ness", "Holm", "Stack", "Geo" };
static int calls; static long long once = 1LL << 40;
static int count(void) { static int here = 10; return here++ + calls++; }
int main(void) { int sum = 0; for (int i = 0; i < 8; i++) sum += depth[i] * count(); printf("%d %d %s %lld\n", sum, *deepest, names[calls & 3], once + calls); return sum % 99; }
