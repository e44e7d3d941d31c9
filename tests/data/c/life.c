/* Conway's game on a torus, drawn at the end. */
#include <stdio.h>
#include <string.h>
static unsigned char now[16][32], next[16][32];
int main(void) {
    int alive = 0;
    now[1][2] = now[2][3] = now[3][1] = now[3][2] = now[3][3] = 1;
    for (int step = 0; step < 40; step++) {
        for (int y = 0; y < 16; y++) for (int x = 0; x < 32; x++) {
            int n = 0;
            for (int dy = -1; dy <= 1; dy++) for (int dx = -1; dx <= 1; dx++) if (dx || dy) n += now[(y + dy) & 15][(x + dx) & 31];
            next[y][x] = n == 3 || (n == 2 && now[y][x]);
        }
        memcpy(now, next, sizeof now);
    }
    for (int y = 0; y < 16; y++) for (int x = 0; x < 32; x++) if (now[y][x]) { printf("%d,%d ", x, y); alive++; }
    puts("");
    return alive;
}
