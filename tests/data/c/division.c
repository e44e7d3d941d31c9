/* Division and remainder, signed and unsigned, by constants and by variables. */
#include <stdio.h>
int main(int argc, char **argv) {
    int total = 0;
    for (int n = -1000; n <= 1000; n += 7) {
        total += n / 3 + n % 3 + n / 10 - n % 10 + (int)((unsigned)n / 7u) % 1000;
        total += n / (argc + 4) + n % (argc + 12) + n / 8 + n % 16;
    }
    printf("%d\n", total);
    return (unsigned)total % 120;
}
