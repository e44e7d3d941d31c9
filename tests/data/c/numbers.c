/* Numbers from text, and to text. */
#include <stdio.h>
#include <stdlib.h>
#include <errno.h>
int main(void) {
    const char *texts[] = { "42", "-0x1f", "077", "99999999999999999999", "3.25e2xyz", "  -1e-310", "inf", "0x1.8p3" };
    for (int i = 0; i < 8; i++) {
        char *end; errno = 0;
        long n = strtol(texts[i], &end, 0);
        double d = strtod(texts[i], 0);
        printf("%ld %d %g %s\n", n, errno == ERANGE, d, end);
    }
    printf("%d %.17g\n", atoi("123abc"), atof("0.1"));
    return 0;
}
