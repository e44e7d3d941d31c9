/* Labels as values: a small interpreter of watch orders, and jump tables of several widths. */
#include <stdio.h>
static int run(const unsigned char *at) {
    static const void *const orders[] = { &&stop, &&push, &&plus, &&times, &&again };
    int stack[8], top = 0, turns = 0;
    goto *orders[*at++];
push: stack[top++] = *at++; goto *orders[*at++];
plus: top--; stack[top - 1] += stack[top]; goto *orders[*at++];
times: top--; stack[top - 1] *= stack[top]; goto *orders[*at++];
again: if (++turns < 3) { at -= 4; } goto *orders[*at++];
stop: return stack[top - 1] + turns;
}
static const char *wind(int force) { switch (force) { case 0: return "calm"; case 1: return "light air"; case 2: return "light breeze"; case 3: return "gentle"; case 4: return "moderate"; case 5: return "fresh"; case 6: return "strong"; case 7: return "near gale"; case 8: return "gale"; default: return "storm"; } }
static long __attribute__((noinline)) wide(long long x) { switch (x) { case -5: return 1; case -4: return 22; case -3: return 31; case -2: return 47; case -1: return 50; case 0x123456789LL: return 9; default: return (long)(x & 7); } }
int main(void) { static const unsigned char code[] = { 1, 6, 1, 7, 3, 1, 2, 2, 0 }; int sum = run(code); for (int i = -2; i < 11; i += 3) { puts(wind(i)); sum += (int)wide(i - 4); } printf("%d %ld\n", sum, wide(0x123456789LL)); return sum & 63; }
