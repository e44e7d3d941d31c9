unsigned mean(const unsigned *t, unsigned n) { unsigned s = 0; for (unsigned i = 0; i < n; i++) s += t[i]; return s / n; }
unsigned highest(const unsigned *t, unsigned n) { unsigned m = 0; for (unsigned i = 0; i < n; i++) if (t[i] > m) m = t[i]; return m; }
int shout(char *s) { int n = 0; for (; *s; s++, n++) if (*s >= 'a' && *s <= 'z') *s -= 32; return n; }
double raise(double h, int f) { return h * f + 1; }
int clamp(int v, int lo, int hi) { return v < lo ? lo : v > hi ? hi : v; }
int lit(unsigned p) { int n = 0; while (p) { n += p & 1; p >>= 1; } return n; }
