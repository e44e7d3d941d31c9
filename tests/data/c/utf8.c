/* Text of every kind of character, narrow and wide. */
#include <stdio.h>
#include <string.h>
#include <wchar.h>
static const char place[] = "Skerry — Sölhavn «fjära» 燈台 🌊";
static const char escapes[] = "\a\b\t\n\v\f\r\033[1m\"quoted\" \\ \1\0012 \x7f\xff\377 ?\?= \0 hidden";
static const wchar_t wide[] = L"tide 潮 \x1f30a";
static const unsigned short pairs[] = u"bö 🌊"; static const unsigned int fours[] = U"lamp 🔦";
static const char *const names[] = { "ebb", "flood", "slack;water", "a#b", "c//d", "/* e */", "'f'", "%s $x @y", "" };
int main(void) {
    unsigned sum = 0;
    for (size_t i = 0; i < sizeof place; i++) sum = sum * 31 + (unsigned char)place[i];
    for (size_t i = 0; i < sizeof escapes; i++) sum = sum * 31 + (unsigned char)escapes[i];
    for (size_t i = 0; i < sizeof wide / sizeof *wide; i++) sum = sum * 31 + (unsigned)wide[i];
    for (size_t i = 0; i < sizeof pairs / 2; i++) sum = sum * 31 + pairs[i];
    for (size_t i = 0; i < sizeof fours / 4; i++) sum = sum * 31 + fours[i];
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) { puts(names[i]); sum += (unsigned)strlen(names[i]); }
    printf("%s %u %zu\n", place, sum, sizeof escapes);
    return (int)(sum & 63);
}
