/* Globals, functions and locals named as registers and as words of the language are. */
#include <stdio.h>
int si = 3, al = 4, word = 5, ptr = 6, offset = 7, byte = 8, st = 9, cl = 10, flat = 11, dword = 12, eax = 13, x0 = 14, w1 = 15, sp = 16, lsl = 17, fs = 18, not = 19, and = 20, mod = 21, shl = 22, eq = 23, lt = 24;
static int bx[4] = { 1, 2, 3, 4 }, di[3] = { 5, 6, 7 };
int *rdx = &bx[1], short_ = 2, near = 30, equ = 31, db = 32, resb = 33;
int dx(int ah) { return ah + si; }
static int __attribute__((noinline)) ax(int i) { return bx[i & 3] + di[i % 3]; }
int lock(void) { return 41; }
int rep(void) { return lock() + 1; }
int data(int text) { return text * 3; }
int xmm0(int (*call)(int), int v) { return call(v) + 1; }
int mov = 50; int add(int a, int b) { return a + b; }
int main(void) {
    int sum = si + al + word + ptr + offset + byte + st + cl + flat + dword + eax + x0 + w1 + sp + lsl + fs + not + and + mod + shl + eq + lt;
    for (int i = 0; i < 7; i++) { sum += ax(i) * dx(i); di[i % 3] += word; word ^= i; byte += 2; }
    int (*cs)(int) = data;
    printf("%d %d %d %d %d %d %d\n", sum, *rdx + short_ + near + equ + db + resb, rep(), cs(5), xmm0(dx, 9), add(mov, byte), word);
    return sum & 63;
}
