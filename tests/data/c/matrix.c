/* Matrix products of integers and of doubles. */
#include <stdio.h>
#define N 24
static int a[N][N], b[N][N], c[N][N]; static double p[N][N], q[N][N], r[N][N];
int main(void) {
    for (int i = 0; i < N; i++) for (int j = 0; j < N; j++) { a[i][j] = i + 2 * j; b[i][j] = i * j - 3; p[i][j] = i / (j + 1.0); q[i][j] = j - i * 0.5; }
    for (int i = 0; i < N; i++) for (int j = 0; j < N; j++) for (int k = 0; k < N; k++) { c[i][j] += a[i][k] * b[k][j]; r[i][j] += p[i][k] * q[k][j]; }
    long trace = 0; double other = 0;
    for (int i = 0; i < N; i++) { trace += c[i][i]; other += r[i][N - 1 - i]; }
    printf("%ld %.9f\n", trace, other);
    return (int)(trace % 119);
}
