/* Conversions between integers and floating point, and rounding modes. */
#include <stdio.h>
#include <fenv.h>
#include <math.h>
static const int modes[] = { FE_TONEAREST, FE_DOWNWARD, FE_UPWARD, FE_TOWARDZERO };
int main(void) {
    volatile double values[] = { 0.5, 1.5, 2.5, -0.5, -1.5, 1e9 + 0.3, -7.49999, 123456789.987 };
    for (int m = 0; m < 4; m++) {
        __asm__ volatile("" ::: "memory");
        fesetround(modes[m]);
        for (int i = 0; i < 8; i++) printf("%ld %d %.3f ", lrint(values[i]), (int)values[i], values[i] / 3.0);
        printf("\n");
    }
    fesetround(FE_TONEAREST);
    unsigned long long big = 18446744073709551615ULL;
    printf("%f %f %llu\n", (double)big, (double)(float)big, (unsigned long long)1.8e19);
    return 0;
}
