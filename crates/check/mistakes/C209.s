; C209: a signed branch after an unsigned comparison, or the reverse
        .target x86-64
        .global _start
        .text
_start: mov     ecx, 20                 ; depth below the datum
        neg     ecx
        xor     edi, edi
        cmp     ecx, -5000
        jb      .out                    ; without a sign: -20 is a large number
        mov     edi, 1
.out:   mov     eax, 60                 ; exit
        syscall
