/* Bit fields, packed structures and unions. */
#include <stdio.h>
struct buoy { unsigned number : 10; unsigned light : 3; signed depth : 7; unsigned bell : 1; unsigned long long code : 40; };
struct __attribute__((packed)) record { char kind; int value; short more; };
union word { float f; unsigned u; unsigned char b[4]; };
int main(void) {
    struct buoy b = { 1000, 5, -60, 1, 0x123456789aULL };
    b.number += 30; b.depth -= 3; b.light ^= 6; b.code *= 3;
    struct record r[3] = { { 'a', 1, 2 }, { 'b', 0x01020304, -5 }, { 'c', -1, 7 } };
    union word w = { 1.5f };
    printf("%u %u %d %u %llx %d %d %zu %x %u\n", b.number, b.light, b.depth, b.bell, (unsigned long long)b.code, r[1].value, r[1].more, sizeof r, w.u, w.b[3]);
    return (int)b.number;
}
