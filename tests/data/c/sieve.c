/* The sieve of Eratosthenes. */
#include <stdio.h>
static unsigned char composite[20000];
int main(void) {
    int count = 0, last = 0;
    for (int n = 2; n < 20000; n++) {
        if (composite[n]) continue;
        count++; last = n;
        for (int m = 2 * n; m < 20000; m += n) composite[m] = 1;
    }
    printf("%d %d\n", count, last);
    return count % 200;
}
