/* Wide strings, multibyte characters and long output. */
#include <stdio.h>
#include <wchar.h>
#include <string.h>
int main(void) { wchar_t name[32] = L"Skerry"; wcscat(name, L" light"); long sum = 0; for (size_t i = 0; i < wcslen(name); i++) sum = sum * 7 + name[i]; for (int i = 0; i < 300; i++) printf("%d%c", i * i, i % 20 == 19 ? '\n' : ' '); printf("%ld %zu\n", sum, wcslen(name)); return (int)(sum % 100); }
