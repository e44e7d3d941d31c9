; C209: a branch takes the numbers that were compared for what they are not
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
