/* Hashes with rotations and 64-bit multiplication. */
#include <stdio.h>
#include <stdint.h>
static uint64_t rotate(uint64_t x, int by) { return x << by | x >> (64 - by); }
int main(void) {
    uint64_t h = 0x9e3779b97f4a7c15u; uint32_t s[4] = { 1, 2, 3, 4 };
    for (int i = 0; i < 300; i++) { h = rotate(h ^ (uint64_t)i * 0xbf58476d1ce4e5b9u, 23) * 5 + 1; uint32_t t = s[0] ^ s[0] << 11; s[0] = s[1]; s[1] = s[2]; s[2] = s[3]; s[3] ^= s[3] >> 19 ^ t ^ t >> 8; }
    unsigned __int128 wide = (unsigned __int128)h * 0xfeedfacecafebeefu;
    printf("%016llx %08x %016llx\n", (unsigned long long)h, s[3], (unsigned long long)(wide >> 64));
    return (int)(h & 63);
}
