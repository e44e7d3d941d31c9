; Adds up a morning of tide readings and exits with their mean, in decimetres.
; Each reading is one byte, so it is widened before it is added.

        .target x86-64
        .global _start

        .data
reading db 12, 9, 7, 6, 8, 11, 15, 20
count   equ $ - reading
total   dd 0

        .text
_start:
        xor     eax, eax                ; sum so far
        xor     ecx, ecx                ; index
.next:
        movzx   edx, byte [reading + rcx]
        add     eax, edx
        inc     ecx
        cmp     ecx, count
        jb      .next

        mov     [total], eax
        xor     edx, edx                ; the dividend is edx:eax
        mov     ebx, count
        div     ebx

        mov     edi, eax                ; the mean is the exit status
        mov     eax, 60
        syscall
