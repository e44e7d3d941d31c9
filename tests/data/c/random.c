/* The C library's generator, which is the same everywhere. */
#include <stdio.h>
#include <stdlib.h>
int main(void) { srand(42); unsigned sum = 0; for (int i = 0; i < 500; i++) sum = sum * 31 + (unsigned)rand(); srandom(7); for (int i = 0; i < 100; i++) sum ^= (unsigned)random(); printf("%u %.6f\n", sum, drand48()); return (int)(sum % 120); }
