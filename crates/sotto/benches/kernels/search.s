; Every place of a word in 64 KiB of text, byte by byte, two hundred times: comparisons and branches.
        .target x86-64
        .global _start
BYTES   equ 65536
        .data
needle:   .ascii "fog bell"
LETTERS    equ $ - needle
        .bss
text:   .skip BYTES + 16
        .text
_start: lea     r8, [text]
        lea     r9, [needle]
        xor     ecx, ecx
.fill:  mov     eax, ecx                ; letters of the word, out of order now and then
        imul    edx, ecx, 2654435
        shr     edx, 16
        and     edx, 31
        jnz     .inorder
        inc     eax
.inorder:
        and     eax, LETTERS - 1
        mov     al, [r9 + rax]
        mov     [r8 + rcx], al
        inc     ecx
        cmp     ecx, BYTES
        jb      .fill
        xor     ebx, ebx
        mov     r12d, 200
.round: xor     ecx, ecx
.place: xor     edx, edx
.letter:
        lea     eax, [ecx + edx]
        movzx   eax, byte [r8 + rax]
        cmp     al, [r9 + rdx]
        jne     .other
        inc     edx
        cmp     edx, LETTERS
        jb      .letter
        inc     ebx
.other: inc     ecx
        cmp     ecx, BYTES
        jb      .place
        dec     r12d
        jnz     .round
        mov     edi, ebx
        and     edi, 127
        mov     eax, 60
        syscall
