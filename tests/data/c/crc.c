/* A cyclic redundancy check, by table and by bits. */
#include <stdio.h>
#include <stdint.h>
static uint32_t table[256];
int main(void) {
    for (uint32_t n = 0; n < 256; n++) { uint32_t c = n; for (int k = 0; k < 8; k++) c = c & 1 ? 0xedb88320u ^ (c >> 1) : c >> 1; table[n] = c; }
    const char *log = "0400 wind SW 6, visibility good; 0800 fog, bell rung every two minutes";
    uint32_t crc = ~0u;
    for (const char *p = log; *p; p++) crc = table[(crc ^ (unsigned char)*p) & 255] ^ (crc >> 8);
    printf("%08x\n", ~crc);
    return (int)(~crc & 127);
}
