/* Switch statements: dense ones, which become tables, and sparse ones. */
#include <stdio.h>
static const char *light(int kind) {
    switch (kind) {
    case 0: return "fixed"; case 1: return "flashing"; case 2: return "quick"; case 3: return "isophase";
    case 4: return "occulting"; case 5: return "alternating"; case 6: return "long"; case 7: return "group";
    default: return "dark";
    }
}
static int sparse(int v) {
    switch (v) { case 3: return 1; case 90: return 2; case 1000: return 3; case 70000: return 4; case -5: return 5; default: return 0; }
}
int main(void) {
    int total = 0;
    for (int i = -1; i < 10; i++) printf("%s ", light(i));
    int tries[] = { 3, 90, 1000, 70000, -5, 4 };
    for (int i = 0; i < 6; i++) total = total * 6 + sparse(tries[i]);
    printf("%d\n", total);
    return total % 200;
}
