/* Large structures by value, block copies and fills, mixed sizes. */
#include <stdio.h>
#include <string.h>
#include <stdint.h>
struct log { char name[40]; int16_t depths[30]; int64_t when; struct { uint8_t a; uint16_t b; } marks[5]; };
struct pair { long a, b; }; struct mixed { double d; int i; }; struct tiny { char c[3]; }; struct floats { float x, y; };
static struct log __attribute__((noinline)) enter(struct log l, int n) { l.depths[n % 30] = (int16_t)n; l.when += n; l.marks[n % 5].b = (uint16_t)(n * 300); return l; }
static struct pair __attribute__((noinline)) both(struct pair p) { struct pair q = { p.b, p.a * 2 }; return q; }
static struct mixed __attribute__((noinline)) mix(struct mixed m) { m.d *= 2; m.i++; return m; }
static struct tiny __attribute__((noinline)) turn(struct tiny t) { struct tiny u = { { t.c[2], t.c[1], t.c[0] } }; return u; }
static struct floats __attribute__((noinline)) swap(struct floats f) { struct floats g = { f.y, f.x + 1 }; return g; }
static struct log logs[4];
int main(void) {
    memset(logs, 0, sizeof logs); strcpy(logs[0].name, "skerry");
    for (int i = 0; i < 50; i++) logs[i & 3] = enter(logs[(i + 3) & 3], i);
    struct log copy; memcpy(&copy, &logs[1], sizeof copy); memmove(copy.name + 2, copy.name, 20);
    struct pair p = both((struct pair){ 1, 2 }); struct mixed m = mix((struct mixed){ 1.5, 2 }); struct tiny t = turn((struct tiny){ { 'a', 'b', 'c' } }); struct floats f = swap((struct floats){ 1.5f, 2.5f });
    printf("%s %d %lld %d %ld %ld %.2f %d %.3s %.1f %.1f %d\n", copy.name, copy.depths[7], (long long)copy.when, copy.marks[2].b, p.a, p.b, m.d, m.i, t.c, f.x, f.y, memcmp(&copy, &logs[1], sizeof copy) != 0);
    return copy.depths[3] & 63;
}
