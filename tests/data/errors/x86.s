; Mistakes of the tide gauge's programs, one a line.
        .target x86-64
        .data
tide_v: db 12, 300              ; !A108 300
        .word   70000           ; !A108 70000
        .byte   1 / 0           ; !A114 1 / 0
        .byte   1 << 200        ; !A114 1 << 200
        .long   "fog"           ; !A104 "fog"
        .ascii  fog             ; !A104 fog
        .byte   017             ; !A105 017
        .byte   0x1g            ; !A105 0x1g
        .byte   12a             ; !A105 12a
        .ascii  "a\q"           ; !A106 "a\q"
        .byt    5               ; !A102 .byt
        .macro  mov             ; !A123 mov
        .endm
        .align  3               ; !A108 3
        .skip   later           ; !A111 later
        .skip   -1              ; !A108 -1
        .quad   tide_v * 2      ; !A113 tide_v
        .quad   tide_v + tide_v ; !A113 tide_v + tide_v
        .byte   1 2             ; !A104 2
        .byte   (1 + 2          ; !A104
        .fill   1, 9            ; !A108 9
        .section lamp           ; !A104 lamp
        .section fog, "aq"      ; !A104 "aq"
        .bss
        .byte   1               ; !A115 1
        .text
        moov    eax, 1          ; !A101 moov
        movz    x0, 5           ; !A101 movz
        mov     eax, rbx        ; !A107 mov     eax, rbx
        mov     eax             ; !A107 mov     eax
        mov     [rax], 5        ; !A109 [rax]
        add     al, 256         ; !A108 256
        mov     ah, r8b         ; !A117 mov     ah, r8b
        mov     rdi, [tide_V]   ; !A111 tide_V
        mov     eax, [rsp*2]    ; !A110 [rsp*2]
        mov     eax, [rbx*7]    ; !A110 [rbx*7]
        mov     eax, [rbx+rcx+rdx] ; !A110 [rbx+rcx+rdx]
        mov     eax, [bx]       ; !A110 bx
        mov     eax, [rbx*rcx]  ; !A110 [rbx*rcx]
        mov     eax, [rbx - rcx] ; !A110 rbx
        mov     eax, [ebx + rcx] ; !A110 [ebx + rcx]
        mov     eax, byte 5 + tide_v ; !A104 byte 5 + tide_v
        mov     eax, %ebx       ; !A118 %
        jmp     nowhere         ; !A111 nowhere
        jmp     1f              ; !A111 1f
        jmp     5               ; !A113 5
        loop    far_off         ; !A108 far_off
        mov     eax, 1,         ; !A104
        mov     eax, 1 2        ; !A104 2
        mov     eax, @          ; !A104 @
        ?                       ; !A104 ?
        5 nop                   ; !A104 5
again:  nop
again:  nop                     ; !A112 again
        jmp     .end            ; !A120 .end
one:    nop
.end:   nop
two:    nop
.end:   nop
        .skip   200
far_off: nop
three:
        jmp     .end            ; !A120 .end
limit   equ     5
limit   equ     6               ; !A112 limit
limit   =       7               ; !A112 limit
loops   equ     loops2          ; !A114 loops
loops2  equ     loops           ; !A114 loops2
        .target arm64           ; !A116 .target arm64
        .operands sideways      ; !A104 sideways
        .global 5               ; !A104 5
