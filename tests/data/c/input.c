/* Standard input, line by line and number by number. */
#include <stdio.h>
#include <string.h>
int main(void) {
    char line[200]; int lines = 0, characters = 0; double sum = 0;
    while (fgets(line, sizeof line, stdin)) {
        double level; int hour;
        lines++; characters += (int)strlen(line);
        if (sscanf(line, "%d: %lf", &hour, &level) == 2) sum += level * hour;
    }
    printf("%d lines, %d characters, %.4f\n", lines, characters, sum);
    return lines;
}
