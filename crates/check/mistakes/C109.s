; C109: the direction flag is left set
        .target x86-64
        .global _start
        .global lamp
        .text
lamp:   std
        ret
_start: call    lamp
        cld
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
