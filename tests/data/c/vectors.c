/* Loops that compilers turn into vector instructions. */
#include <stdio.h>
#define N 1000
static float x[N], y[N]; static int a[N], b[N]; static unsigned char c[N], d[N]; static double z[N]; static short s[N];
int main(void) {
    for (int i = 0; i < N; i++) { x[i] = (float)i * 0.25f; a[i] = i * 3 - 500; c[i] = (unsigned char)(i * 5); z[i] = i * 1.5; s[i] = (short)(i * 77); }
    for (int i = 0; i < N; i++) y[i] = x[i] * 3.0f + 1.0f;
    for (int i = 0; i < N; i++) b[i] = a[i] > 0 ? a[i] * 7 : -a[i];
    for (int i = 0; i < N; i++) d[i] = c[i] > 100 ? (unsigned char)(c[i] - 100) : c[i];
    for (int i = 0; i < N; i++) s[i] = (short)(s[i] > 1000 ? 1000 : s[i] < -1000 ? -1000 : s[i]);
    float sum = 0; int total = 0, most = -1; unsigned bytes = 0; double large = 0; long shorts = 0;
    for (int i = 0; i < N; i++) { sum += y[i]; total += b[i]; bytes += d[i]; if (b[i] > most) most = b[i]; large += z[i] / 3; shorts += s[i]; }
    printf("%.2f %d %d %u %.3f %ld\n", (double)sum, total, most, bytes, large, shorts);
    return (int)(bytes % 97);
}
