/* Structures passed and returned by value, of every size that matters. */
#include <stdio.h>
struct small { char a; short b; };
struct pair { long long x; double y; };
struct floats { float a, b, c; };
struct large { int v[9]; };
static struct small one(struct small s) { s.a++; s.b -= 3; return s; }
static struct pair two(struct pair p, struct small s) { p.x += s.b; p.y *= s.a; return p; }
static struct floats three(struct floats f) { return (struct floats){ f.c, f.a, f.b + 1 }; }
static struct large four(struct large l, int by) { for (int i = 0; i < 9; i++) l.v[i] *= by; return l; }
int main(void) {
    struct small s = one((struct small){ 4, 100 });
    struct pair p = two((struct pair){ 7, 1.5 }, s);
    struct floats f = three((struct floats){ 1, 2, 3 });
    struct large l = { { 1, 2, 3, 4, 5, 6, 7, 8, 9 } };
    l = four(four(l, 3), 2);
    printf("%d %d %lld %.2f %.1f%.1f%.1f %d %d\n", s.a, s.b, p.x, p.y, (double)f.a, (double)f.b, (double)f.c, l.v[0], l.v[8]);
    return l.v[4];
}
