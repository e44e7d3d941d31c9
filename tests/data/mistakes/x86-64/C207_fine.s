; not C207: a value is overwritten before it is used
        .target x86-64
        .global _start
        .data
tide:   .long   3, 9, 5
        .text
_start: mov     edi, -1                 ; unless one is found
        xor     ecx, ecx
.next:  cmp     dword [tide + rcx * 4], 9
        jne     .on
        mov     edi, ecx
        jmp     .out
.on:    inc     ecx
        cmp     ecx, 3
        jb      .next
.out:   mov     eax, 60                 ; exit
        syscall
