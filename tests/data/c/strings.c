/* String routines of the C library. */
#include <stdio.h>
#include <string.h>
#include <ctype.h>
int main(void) {
    char line[128] = "Skerry light, white every ten seconds", copy[128];
    strcpy(copy, line); strcat(copy, "; fog bell");
    printf("%zu %d %s\n", strlen(copy), strcmp(line, copy) < 0, strchr(copy, 0x3b));
    printf("%s|%s|%ld\n", strstr(copy, "white"), strrchr(copy, 'e'), (long)strcspn(copy, ","));
    for (char *p = copy; *p; p++) *p = (char)toupper((unsigned char)*p);
    puts(copy);
    int words = 0;
    for (char *word = strtok(copy, " ,;"); word; word = strtok(NULL, " ,;")) words += (int)strlen(word);
    printf("%d %d %d\n", words, strncmp("lamp", "lantern", 2), memcmp("abcd", "abce", 4) < 0);
    return words;
}
