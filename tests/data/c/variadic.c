/* Routines with any number of arguments, integers and doubles mixed. */
#include <stdio.h>
#include <stdarg.h>
static double total(const char *kinds, ...) {
    va_list list; double sum = 0;
    va_start(list, kinds);
    for (; *kinds; kinds++) sum += *kinds == 'd' ? va_arg(list, double) : *kinds == 'l' ? (double)va_arg(list, long long) : va_arg(list, int);
    va_end(list);
    return sum;
}
int main(void) {
    printf("%.3f\n", total("idlidlidlid", 1, 2.5, 3LL, 4, 5.5, 6LL, 7, 8.5, 9LL, 10, 11.5));
    char text[80];
    int n = snprintf(text, sizeof text, "%s %c %05d %-6s| %lx %% %p", "buoy", 'b', -42, "bell", 0xfeedL, (void *)0);
    puts(text);
    return n;
}
