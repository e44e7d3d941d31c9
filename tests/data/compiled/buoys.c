/* Arithmetic of the buoy chain: every path folds into one number, which must be the same on every
   machine. Compiled for the machine under test it starts at `check` and returns the number; compiled
   natively, with -DPRINT, it prints it. */

typedef unsigned long u64;
typedef long s64;
typedef unsigned int u32;
typedef int s32;
typedef unsigned char u8;
typedef unsigned short u16;

static u64 fold(u64 mixed, u64 value) {
    mixed ^= value + 0x9e3779b97f4a7c15UL + (mixed << 6) + (mixed >> 2);
    return mixed;
}

static u64 next(u64 *state) {
    u64 x = *state;
    x ^= x << 13;
    x ^= x >> 7;
    x ^= x << 17;
    *state = x;
    return x;
}

static u64 arithmetic(u64 a, u64 b) {
    u64 mixed = 1;
    s64 sa = (s64)a, sb = (s64)(b | 1);
    s32 wa = (s32)a, wb = (s32)(b | 1);
    u32 ua = (u32)a, ub = (u32)(b | 1);
    mixed = fold(mixed, a + b);
    mixed = fold(mixed, a - b);
    mixed = fold(mixed, a * b);
    mixed = fold(mixed, -a);
    mixed = fold(mixed, ~a);
    mixed = fold(mixed, a & b);
    mixed = fold(mixed, a | b);
    mixed = fold(mixed, a ^ b);
    mixed = fold(mixed, a & ~b);
    mixed = fold(mixed, (u64)(sa / (sb == -1 ? 3 : sb)));
    mixed = fold(mixed, (u64)(sa % (sb == -1 ? 3 : sb)));
    mixed = fold(mixed, a / (b | 1));
    mixed = fold(mixed, a % (b | 1));
    mixed = fold(mixed, (u64)(u32)(ua + ub));
    mixed = fold(mixed, (u64)(u32)(ua * ub));
    mixed = fold(mixed, (u64)(ua / ub));
    mixed = fold(mixed, (u64)(ua % ub));
    mixed = fold(mixed, (u64)(u32)(wb == -1 ? 0 : wa / wb));
    mixed = fold(mixed, a << (b & 63));
    mixed = fold(mixed, a >> (b & 63));
    mixed = fold(mixed, (u64)(sa >> (b & 63)));
    mixed = fold(mixed, (u64)(u32)(ua << (b & 31)));
    mixed = fold(mixed, (u64)(ua >> (b & 31)));
    mixed = fold(mixed, (u64)(u32)(wa >> (b & 31)));
    mixed = fold(mixed, a << 5);
    mixed = fold(mixed, (u64)(sa >> 9));
    return mixed;
}

static u64 comparisons(u64 a, u64 b) {
    u64 mixed = 2;
    s64 sa = (s64)a, sb = (s64)b;
    s32 wa = (s32)a, wb = (s32)b;
    u32 ua = (u32)a, ub = (u32)b;
    if (a < b) mixed = fold(mixed, 1);
    if (a <= b) mixed = fold(mixed, 2);
    if (sa < sb) mixed = fold(mixed, 3);
    if (sa >= sb) mixed = fold(mixed, 4);
    if (wa < wb) mixed = fold(mixed, 5);
    if (wa > wb) mixed = fold(mixed, 6);
    if (ua < ub) mixed = fold(mixed, 7);
    if (ua >= ub) mixed = fold(mixed, 8);
    if (a == b) mixed = fold(mixed, 9);
    if (a != b) mixed = fold(mixed, 10);
    if (sa < 0) mixed = fold(mixed, 11);
    if (!wa) mixed = fold(mixed, 12);
    mixed = fold(mixed, (u64)(a < b) + 2 * (u64)(sa > sb) + 4 * (u64)(wa <= wb));
    return mixed;
}

static u64 memory(u64 *state) {
    u64 words[16];
    u8 bytes[64];
    u16 halves[32];
    u32 middles[16];
    u64 mixed = 3;
    for (u64 i = 0; i < 16; i++) words[i] = next(state);
    for (u64 i = 0; i < 64; i++) bytes[i] = (u8)(words[i & 15] >> (i & 7));
    for (u64 i = 0; i < 32; i++) halves[i] = (u16)(words[i & 15] >> i);
    for (u64 i = 0; i < 16; i++) middles[i] = (u32)(words[i] >> 16);
    for (u64 i = 0; i < 16; i++) {
        mixed = fold(mixed, words[15 - i] + bytes[4 * i] + halves[2 * i] + middles[i]);
    }
    return mixed;
}

static u64 chain(u64 depth, u64 value) {
    if (depth == 0) return value;
    return fold(chain(depth - 1, value + depth), depth);
}

u64 check(void) {
    u64 state = 88172645463325252UL;
    u64 mixed = 0;
    for (u64 round = 0; round < 200; round++) {
        u64 a = next(&state), b = next(&state);
        if (round % 4 == 1) b = a;
        if (round % 4 == 2) b &= 0xff;
        if (round % 8 == 3) a = 0;
        mixed = fold(mixed, arithmetic(a, b));
        mixed = fold(mixed, comparisons(a, b));
        mixed = fold(mixed, memory(&state));
    }
    return fold(mixed, chain(40, mixed));
}

#ifdef PRINT
#include <stdio.h>
int main(void) {
    printf("%lu\n", check());
    return 0;
}
#endif
