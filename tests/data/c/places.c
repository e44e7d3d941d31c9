/* Sections, alignments, aliases, weak and hidden names, constructors, common data. */
#include <stdio.h>
int common_readings[9]; long common_total;
__attribute__((section("skerry_table"), used)) static const int first = 11;
__attribute__((section("skerry_table"), used)) static const int second = 22;
extern const int __start_skerry_table[], __stop_skerry_table[];
__attribute__((aligned(64))) static char page[128]; __attribute__((aligned(32))) int aligned_value = 6;
int real_depth(int x) { return x + 2; }
int depth(int) __attribute__((alias("real_depth"))); int weak_depth(int) __attribute__((weak, alias("real_depth")));
__attribute__((weak)) int nowhere(void); __attribute__((weak)) int replaced(void) { return 5; }
__attribute__((visibility("hidden"))) int hidden_value = 8; __attribute__((visibility("protected"))) int protected_value = 9; __attribute__((visibility("internal"))) int internal_value = 10;
static int started; __attribute__((constructor)) static void start(void) { started += 3; } __attribute__((constructor(201))) static void early(void) { started = 40; }
__attribute__((destructor)) static void stop(void) { puts("light out"); }
__attribute__((cold, noinline)) static int rare(int x) { return printf("rare %d\n", x); }
__attribute__((hot)) int often(int x) { return x * 3; }
__attribute__((noinline, section(".text.skerry"))) static int apart(int x) { return x ^ 21; }
__attribute__((noinline, aligned(32))) int padded(int x) { if (__builtin_expect(x > 100, 0)) return rare(x); return x - 1; }
__asm__(".globl said\n\t.data\n\t.balign 4\nsaid:\t.long 77\n\t.text"); extern int said;
int main(void) {
    int sum = 0; for (const int *at = __start_skerry_table; at < __stop_skerry_table; at++) sum += *at;
    common_readings[3] = 4; common_total = 90; page[64] = 1;
    printf("%d %d %d %d %d %d %d %d\n", sum, depth(1), weak_depth(2), nowhere ? 1 : 0, replaced(), hidden_value + protected_value + internal_value, started, said);
    printf("%d %d %d %d %d %ld\n", ((unsigned long)page & 63) == 0, aligned_value, often(4), apart(2), padded(120) + padded(7), common_total + common_readings[3]);
    return sum;
}
