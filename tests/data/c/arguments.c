/* Arguments, environment and a status of their own. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
int main(int argc, char **argv) {
    int length = 0;
    for (int i = 1; i < argc; i++) { printf("[%s]", argv[i]); length += (int)strlen(argv[i]); }
    printf(" %d %d\n", argc, getenv("SKERRY_NOWHERE") == NULL);
    exit(length);
}
