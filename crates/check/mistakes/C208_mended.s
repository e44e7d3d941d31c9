; C208, mended
        .target x86-64
        .global _start
        .text
_start: mov     edx, 5                  ; lamps
        mov     eax, 12
        imul    eax, eax, 60
        lea     edi, [rdx]
        mov     eax, 60                 ; exit
        syscall
