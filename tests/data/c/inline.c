/* Inline assembly of the classic kind, in either order of operands. */
#include <stdio.h>
#include <string.h>
#if defined(__i386__) || defined(__x86_64__)
static inline unsigned rotate(unsigned x) { __asm__("rol{l $7, %0| %0, 7}" : "+r"(x)); return x; }
static inline unsigned swap(unsigned x) { __asm__("bswap %0" : "+r"(x)); return x; }
static void copy(void *to, const void *from, size_t n) { __asm__ volatile("cld; rep; movsb" : "+D"(to), "+S"(from), "+c"(n) : : "memory"); }
static int add_locked(int *at, int by) { __asm__ volatile("lock; xadd{l %0, %1| %1, %0}" : "+r"(by), "+m"(*at) : : "memory"); return by; }
static void count(int *at) { __asm__ volatile("lock; inc{l %0| %0}" : "+m"(*at) : : "memory"); }
static int is_below(unsigned a, unsigned b) { unsigned char yes; __asm__("cmp{l %2, %1| %1, %2}\n\tsetb %0" : "=q"(yes) : "r"(a), "r"(b)); return yes; }
static int loops(int n) { int sum = 0; __asm__("1:\n\tadd{l %1, %0| %0, %1}\n\tdec{l %1| %1}\n\tjnz 1b # back while any is left" : "+r"(sum), "+r"(n)); return sum; }
static unsigned long flags(void) { unsigned long f;
#ifdef __x86_64__
    __asm__ volatile("pushf{q|}\n\tpop{q|} %0" : "=r"(f));
#else
    __asm__ volatile("pushf{l|d}\n\tpop{l|} %0" : "=r"(f));
#endif
    return f & 2; }
static void identify(unsigned leaf, unsigned *out) { __asm__ volatile("cpuid" : "=a"(out[0]), "=b"(out[1]), "=c"(out[2]), "=d"(out[3]) : "a"(leaf), "c"(0)); }
static void barrier(void) { __asm__ volatile("" : : : "memory"); __asm__ volatile("mfence\n\tpause\n\tnop"); }
#elif defined(__aarch64__)
static inline unsigned rotate(unsigned x) { __asm__("ror %w0, %w0, #25" : "+r"(x)); return x; }
static inline unsigned swap(unsigned x) { __asm__("rev %w0, %w0" : "+r"(x)); return x; }
static void copy(void *to, const void *from, size_t n) { __asm__ volatile("1: ldrb w9, [%1], #1\n\tstrb w9, [%0], #1\n\tsubs %2, %2, #1\n\tb.ne 1b" : "+r"(to), "+r"(from), "+r"(n) : : "w9", "memory", "cc"); }
static int add_locked(int *at, int by) { int old = *at; __asm__ volatile("add %w0, %w1, %w2" : "=r"(*at) : "r"(old), "r"(by)); return old; }
static void count(int *at) { __asm__ volatile("add %w0, %w0, #1" : "+r"(*at)); }
static int is_below(unsigned a, unsigned b) { int yes; __asm__("cmp %w1, %w2\n\tcset %w0, lo" : "=r"(yes) : "r"(a), "r"(b) : "cc"); return yes; }
static int loops(int n) { int sum = 0; __asm__("1:\tadd %w0, %w0, %w1\n\tsubs %w1, %w1, #1\n\tb.ne 1b // back while any is left" : "+r"(sum), "+r"(n) : : "cc"); return sum; }
static unsigned long flags(void) { return 2; }
static void identify(unsigned leaf, unsigned *out) { out[0] = leaf + 1; }
static void barrier(void) { __asm__ volatile("" : : : "memory"); __asm__ volatile("dmb ish\n\tnop" ::: "memory"); }
#endif
int main(void) {
    char to[16] = "", from[16] = "bell buoy"; int at = 5; unsigned id[4];
    copy(to, from, strlen(from) + 1);
    int old = add_locked(&at, 8); count(&at); barrier(); identify(0, id);
    printf("%x %x %s %d %d %d %d %d %lu %d\n", rotate(0x80000001), swap(0x11223344), to, old, at, is_below(2, 3), is_below(3, 2), loops(10), flags(), id[0] > 0);
    return at;
}
