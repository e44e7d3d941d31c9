/* A fractal in doubles, as letters. */
#include <stdio.h>
int main(void) {
    int total = 0;
    for (int y = 0; y < 12; y++) {
        for (int x = 0; x < 40; x++) {
            double cr = x / 14.0 - 2.1, ci = y / 5.0 - 1.15, r = 0, i = 0; int n = 0;
            while (n < 60 && r * r + i * i < 4) { double t = r * r - i * i + cr; i = 2 * r * i + ci; r = t; n++; }
            total += n; putchar(" .:-=+*#%@"[n / 7]);
        }
        putchar('\n');
    }
    return total % 100;
}
