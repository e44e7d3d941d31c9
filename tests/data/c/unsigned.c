/* Comparisons and conversions of unsigned numbers. */
#include <stdio.h>
#include <stdint.h>
int main(void) {
    uint8_t b = 250; uint16_t w = 65000; uint32_t d = 4000000000u; uint64_t q = 1ull << 63; int total = 0;
    for (int i = 0; i < 20; i++) { b += 3; w += 111; d += 77777777u; q += q >> 3; total += (b > 128) + (w < 30000) * 2 + (d > 1u << 31) * 4 + (q > 1ull << 62) * 8; total += (int)((double)d / 1e9) + (int)((double)q / 1e18) + (int)((float)q / 1e18f); }
    printf("%d %u %u %u %llu %d\n", total, b, w, d, (unsigned long long)q, -1 < (int)1u);
    return total & 127;
}
