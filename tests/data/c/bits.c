/* Counts, scans and reversals of bits. */
#include <stdio.h>
#include <stdint.h>
int main(void) {
    unsigned total = 0; uint64_t x = 0x123456789abcdefu;
    for (int i = 0; i < 60; i++) {
        x = x * 6364136223846793005u + 1442695040888963407u;
        total += (unsigned)(__builtin_popcountll(x) + __builtin_ctzll(x | 1ull << 40) * 3 + __builtin_clzll(x | 1));
        total ^= __builtin_bswap32((uint32_t)x) >> 7; total += (unsigned)__builtin_parityll(x) + __builtin_bswap16((uint16_t)x);
    }
    printf("%u\n", total);
    return (int)(total % 111);
}
