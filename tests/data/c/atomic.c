/* Atomic operations, which carry lock prefixes. */
#include <stdio.h>
#include <stdatomic.h>
static atomic_int turns; static atomic_llong total; static _Atomic unsigned char small;
int main(void) { for (int i = 0; i < 100; i++) { atomic_fetch_add(&turns, i); atomic_fetch_sub(&total, 3LL * i); atomic_fetch_or(&small, (unsigned char)i); atomic_fetch_xor(&turns, 5); int expected = i; atomic_compare_exchange_strong(&turns, &expected, 7); atomic_exchange(&total, total + 1); } printf("%d %lld %d\n", turns, (long long)total, small); return turns & 127; }
