/* Thread-local data of every model that a compiler may choose. */
#include <stdio.h>
#include <string.h>
static __thread int readings[6] = { 1, 2, 3 };
__thread long total = 40;
__thread char name[16] = "skerry";
static __thread unsigned char small; static __thread int untouched;
extern __thread long total;
static int __attribute__((noinline)) take(int i) { readings[i] += i; total += readings[i]; small++; untouched += small; return readings[i]; }
static int *__attribute__((noinline)) where(int i) { return &readings[i]; }
int main(void) {
    for (int i = 0; i < 6; i++) take(i);
    strcat(name, " rock");
    *where(2) += 100;
    printf("%ld %d %d %d %s\n", total, readings[2], small, untouched, name);
    return (int)(total & 63);
}
