/* Words counted in a table of chains. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
static const char *log_text = "wind fog bell fog lamp lamp bell fog tide tide wind wind fog ebb ebb flood lamp bell fog";
struct entry { char word[12]; int count; struct entry *next; }; static struct entry *table[16];
int main(void) {
    char copy[200]; strcpy(copy, log_text); unsigned sum = 0;
    for (char *w = strtok(copy, " "); w; w = strtok(0, " ")) { unsigned h = 5381; for (char *p = w; *p; p++) h = h * 33 + (unsigned char)*p; struct entry **at = &table[h & 15]; while (*at && strcmp((*at)->word, w)) at = &(*at)->next; if (!*at) { *at = calloc(1, sizeof **at); strcpy((*at)->word, w); } (*at)->count++; }
    for (int i = 0; i < 16; i++) for (struct entry *e = table[i]; e; e = e->next) { printf("%s:%d ", e->word, e->count); sum += (unsigned)(e->count * (i + 1)); }
    puts(""); return (int)(sum % 128);
}
