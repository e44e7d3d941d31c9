/* Infinities, NaNs, signed zeros, denormals and the exception flags. */
#include <stdio.h>
#include <fenv.h>
#include <float.h>
int main(void) {
    volatile double zero = 0.0, one = 1.0, tiny = DBL_MIN, huge = DBL_MAX;
    printf("%f %f %f %d\n", one / zero, -one / zero, __builtin_fabs(zero / zero), zero == -zero);
    printf("%g %g %g\n", tiny / 4, tiny / 1e10, huge * 2);
    feclearexcept(FE_ALL_EXCEPT);
    volatile double third = one / 3;
    printf("%d", fetestexcept(FE_INEXACT) != 0);
    volatile double big = huge * huge;
    printf("%d", fetestexcept(FE_OVERFLOW) != 0);
    volatile double bad = zero / zero;
    printf("%d\n", fetestexcept(FE_INVALID) != 0);
    printf("%d %d %d\n", bad < one, bad != bad, third < big);
    return 3;
}
