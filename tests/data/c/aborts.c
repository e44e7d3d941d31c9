/* A program that ends itself by a signal. */
#include <stdio.h>
#include <stdlib.h>
int main(void) { printf("before\n"); fflush(stdout); abort(); }
