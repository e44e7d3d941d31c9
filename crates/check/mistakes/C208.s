; C208: the second result of a multiplication overwrites a value
        .target x86-64
        .global _start
        .text
_start: mov     edx, 5                  ; lamps
        mov     eax, 12
        mov     ecx, 60
        mul     ecx                     ; edx:eax = eax * ecx
        lea     edi, [rdx]
        mov     eax, 60                 ; exit
        syscall
