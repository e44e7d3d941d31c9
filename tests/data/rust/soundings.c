/* Calls what the Rust library of this name exports. */
#include <stdio.h>
long long channel_sum(const int *depths, unsigned long count); int channel_bottom(unsigned char code);
double channel_mean(double a, double b, float weight); unsigned long long channel_wide(unsigned long long a, unsigned long long b);
/* The core library names it, and nothing here unwinds. */
void rust_eh_personality(void) {}
int main(void) {
    int depths[37]; for (int i = 0; i < 37; i++) depths[i] = i * 31 % 100 - 20;
    printf("%lld\n", channel_sum(depths, 37));
    for (const char *code = "mscrx"; *code; code++) printf("%d ", channel_bottom((unsigned char)*code));
    printf("%.6f %llu\n", channel_mean(2.5, 7.25, 0.5f), channel_wide(0x123456789abcdefULL, 0xfedcba9876543210ULL));
    return 7;
}
