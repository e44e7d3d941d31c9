/* Routines that run at the end, and output that is not flushed by hand. */
#include <stdio.h>
#include <stdlib.h>
static void dim(void) { printf("dim\n"); }
static void dark(void) { printf("dark\n"); }
int main(void) { atexit(dark); atexit(dim); fprintf(stderr, "to the other stream\n"); printf("lit "); return 17; }
