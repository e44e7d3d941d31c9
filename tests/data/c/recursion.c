/* Recursion: simple, mutual, and with large frames. */
#include <stdio.h>
static unsigned fib(unsigned n) { return n < 2 ? n : fib(n - 1) + fib(n - 2); }
static int odd(int n);
static int even(int n) { return n == 0 ? 1 : odd(n - 1); }
static int odd(int n) { return n == 0 ? 0 : even(n - 1); }
static int deep(int n) { volatile char room[300]; room[n % 300] = (char)n; return n == 0 ? room[0] : deep(n - 1) + room[n % 300]; }
static int ackermann(int m, int n) { return m == 0 ? n + 1 : n == 0 ? ackermann(m - 1, 1) : ackermann(m - 1, ackermann(m, n - 1)); }
int main(void) {
    printf("%u %d %d %d %d\n", fib(18), even(101), odd(77), deep(200), ackermann(2, 5));
    return (int)fib(10);
}
