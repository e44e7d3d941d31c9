/* Sines, roots, powers and logarithms by hand and by instruction. */
#include <stdio.h>
static double sine(double x) { double term = x, sum = x; for (int n = 1; n < 12; n++) { term *= -x * x / ((2 * n) * (2 * n + 1)); sum += term; } return sum; }
static double power(double x, int n) { double r = 1; for (; n; n >>= 1, x *= x) if (n & 1) r *= x; return r; }
int main(void) {
    double sum = 0; float roots = 0;
    for (int i = 1; i < 60; i++) { sum += sine(i * 0.05) * power(1.01, i); roots += __builtin_sqrtf((float)i); sum += __builtin_sqrt(i * 1.5); }
    printf("%.12f %.4f\n", sum, (double)roots);
    return (int)roots % 100;
}
