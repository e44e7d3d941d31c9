/* setjmp and longjmp. */
#include <stdio.h>
#include <setjmp.h>
static jmp_buf rock;
static void dive(int depth) { if (depth == 0) longjmp(rock, 5); dive(depth - 1); }
int main(void) {
    volatile int tries = 0;
    int got = setjmp(rock);
    tries++;
    if (tries < 4) dive(tries * 3);
    printf("%d %d\n", got, tries);
    return got + tries;
}
