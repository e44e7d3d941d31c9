/* Complex numbers, which are returned in two registers. */
#include <stdio.h>
#include <complex.h>
static double complex turn(double complex z, double by) { return z * (by + I) / (1.0 - 0.5 * I); }
int main(void) {
    double complex z = 1.0 + 2.0 * I; float complex f = 0.5f - I;
    for (int i = 0; i < 10; i++) { z = turn(z, i * 0.1); f = f * f + 0.25f; if (crealf(f) > 4) f = 0; }
    printf("%.9f %.9f %.5f %.5f\n", creal(z), cimag(z), (double)crealf(f), (double)cimagf(f));
    return 0;
}
