; The swell gauge: the mean height of four waves, as doubles beside each other.
; It writes the mean in centimetres and exits with it as its status.

        .target x86-64
        .global _start

        .data
        .align  16
heights:                                ; metres
        .double 1.25, 0.75, 2.5, 1.5
scale:  .double 25.0                    ; hundred centimetres, by four waves

        .bss
text:   .skip   4

        .text
_start: movapd  xmm0, [heights]
        addpd   xmm0, [heights + 16]    ; two sums at once
        haddpd  xmm0, xmm0              ; and the two together
        mulsd   xmm0, [scale]
        cvtsd2si edi, xmm0

        mov     eax, edi                ; digits, the last first
        lea     rsi, [text + 3]
        mov     byte [rsi], 10
        mov     ecx, 10
.digit: xor     edx, edx
        div     ecx
        add     dl, '0'
        dec     rsi
        mov     [rsi], dl
        test    eax, eax
        jnz     .digit

        mov     ebx, edi                ; kept for the status
        lea     rdx, [text + 4]
        sub     rdx, rsi                ; how many there are
        mov     eax, 1                  ; write
        mov     edi, 1
        syscall
        mov     edi, ebx
        mov     eax, 60                 ; exit
        syscall
