/* Arithmetic and printing of doubles and floats. */
#include <stdio.h>
int main(void) {
    double level = 2.5; float wind = 7.25f;
    for (int i = 0; i < 20; i++) { level = level * 1.01 - 0.003 * i; wind += (float)level / 3.0f; }
    printf("level %.12f wind %.6f %e %g %a\n", level, (double)wind, level * 1e-20, level * 1e15, level);
    printf("%5.1f|%-10.3f|%+.2e|%010.4f\n", level, level, -level, level);
    return (int)wind % 100;
}
