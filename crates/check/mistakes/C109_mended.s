; C109, mended
        .target x86-64
        .global _start
        .global lamp
        .text
lamp:   std
        cld
        ret
_start: call    lamp
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
