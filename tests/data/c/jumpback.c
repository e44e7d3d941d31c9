/* setjmp and longjmp, arrays of variable length, alloca, and calls in tail position. */
#include <stdio.h>
#include <setjmp.h>
#include <string.h>
#include <alloca.h>
static jmp_buf harbour; static volatile int trips;
static void __attribute__((noinline)) sail(int n) { char hold[n + 3]; memset(hold, 'c', sizeof hold); char *deck = alloca((size_t)n * 2 + 1); strcpy(deck, "x"); trips += hold[n] + (int)strlen(deck); if (n == 4) longjmp(harbour, n); sail(n + 1); }
int __attribute__((noinline)) even(unsigned n); int __attribute__((noinline)) odd(unsigned n) { return n ? even(n - 1) : 0; } int even(unsigned n) { return n ? odd(n - 1) : 1; }
int main(void) { int back = setjmp(harbour); if (back == 0) sail(1); printf("%d %d %d %d\n", back, trips, even(1000), odd(77)); return back; }
