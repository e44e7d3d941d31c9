/* malloc, realloc and free, small and large. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
int main(void) {
    char *blocks[64]; unsigned sum = 0;
    for (int round = 0; round < 6; round++) {
        for (int i = 0; i < 64; i++) { size_t n = (size_t)(i * i * 3 + round * 17 + 1); blocks[i] = malloc(n); memset(blocks[i], i + round, n); }
        for (int i = 0; i < 64; i += 2) { blocks[i] = realloc(blocks[i], (size_t)i * 400 + 10); sum += (unsigned char)blocks[i][0]; }
        for (int i = 63; i >= 0; i--) free(blocks[i]);
    }
    char *large = malloc(3 << 20);
    large[0] = 1; large[(3 << 20) - 1] = 2;
    large = realloc(large, 9 << 20);
    sum += (unsigned)(large[0] + large[(3 << 20) - 1]);
    free(large);
    int *zeros = calloc(1000, 4);
    for (int i = 0; i < 1000; i++) sum += (unsigned)zeros[i];
    free(zeros);
    printf("%u\n", sum);
    return (int)(sum & 127);
}
