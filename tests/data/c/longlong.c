/* Arithmetic on long long, with multiplication, division and shifts by variables. */
#include <stdio.h>
static long long step(long long x, int by) { return (x << (by & 31)) ^ (x >> (by & 15)) ^ (x * 1000003LL); }
int main(void) {
    long long x = 88172645463325252LL;
    unsigned long long u = 0;
    for (int i = 1; i < 40; i++) { x = step(x, i); u += (unsigned long long)x / (unsigned)i; u ^= (unsigned long long)(x % (i * 7 + 1)); }
    printf("%lld %llu %llx\n", x, u, u ^ (unsigned long long)x);
    return (int)(u % 100);
}
