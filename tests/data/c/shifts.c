/* Shifts and rotations by constants and by variables, of every width. */
#include <stdio.h>
#include <stdint.h>
int main(void) {
    uint64_t acc = 1; int32_t s = -123456789; int64_t l = -0x123456789abcdefLL;
    for (unsigned n = 0; n < 64; n++) { acc = (acc << (n & 7)) ^ (acc >> ((n * 3) & 63)); acc += (uint64_t)(s >> (n & 31)) + (uint64_t)(l >> n); acc ^= (uint8_t)(200u >> (n & 7)) + (uint16_t)(40000u << (n & 3)); acc = acc << 13 | acc >> 51; }
    unsigned __int128 w = acc; w = w << 37 | w >> 5; acc ^= (uint64_t)(w >> 64);
    printf("%016llx\n", (unsigned long long)acc); return (int)(acc & 127);
}
