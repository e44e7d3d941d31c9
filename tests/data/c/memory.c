/* Memory routines of the C library, of many lengths and alignments. */
#include <stdio.h>
#include <string.h>
static unsigned char a[5000], b[5000];
int main(void) {
    unsigned sum = 0;
    for (unsigned n = 0; n < 5000; n++) a[n] = (unsigned char)(n * 7 + n / 256);
    for (unsigned length = 0; length < 4500; length = length * 2 + 3)
        for (unsigned from = 0; from < 17; from += 3) {
            memset(b, (int)length, sizeof b);
            memcpy(b + from, a + 5 - from % 5, length);
            memmove(b + from + 9, b + from, length);
            for (unsigned n = 0; n < 5000; n += 13) sum = sum * 31 + b[n];
            unsigned char *hit = memchr(b, 0x5a, sizeof b);
            sum += hit ? (unsigned)(hit - b) : 9999;
            sum += (unsigned)(memcmp(a, b, length) > 0);
        }
    printf("%u\n", sum);
    return (int)(sum % 101);
}
