; Reads the hours of the watch log, one number a line, and writes their sum.
; input: 4\n12\n8\n0\n7\n
; output: 31\n
; status: 0
        .target x86-64
        .global _start

        .bss
line:   .skip   256
digits: .skip   24

        .text
_start:
        xor     eax, eax                ; read
        xor     edi, edi
        lea     rsi, [line]
        mov     edx, 256
        syscall
        cmp     rax, 0
        jle     .fail

        lea     rsi, [line]
        lea     rdi, [line + rax]       ; the end of the text
        xor     ebx, ebx                ; sum
        xor     ecx, ecx                ; number being read
1:      cmp     rsi, rdi
        jae     2f
        movzx   eax, byte [rsi]
        inc     rsi
        cmp     al, '\n'
        je      .whole
        sub     eax, '0'
        lea     ecx, [rcx + rcx*4]
        lea     ecx, [rax + rcx*2]
        jmp     1b
.whole:
        add     ebx, ecx
        xor     ecx, ecx
        jmp     1b

2:      lea     rsi, [digits + 23]
        mov     byte [rsi], '\n'
        mov     eax, ebx
        mov     ecx, 10
.digit:
        xor     edx, edx
        div     ecx
        add     dl, '0'
        dec     rsi
        mov     [rsi], dl
        test    eax, eax
        jnz     .digit

        lea     rdx, [digits + 24]
        sub     rdx, rsi
        mov     eax, 1
        mov     edi, 1
        syscall
        xor     edi, edi
        jmp     .exit
.fail:
        mov     edi, 1
.exit:
        mov     eax, 60
        syscall
