/* Dates from seconds, without the clock. */
#include <stdio.h>
#include <time.h>
int main(void) { time_t when[] = { 0, 86399, 951782400, 1767225600, 4102444800 }; for (int i = 0; i < 5; i++) { struct tm *t = gmtime(&when[i]); char text[64]; strftime(text, sizeof text, "%Y-%m-%d %H:%M:%S %a %j", t); puts(text); } return 5; }
