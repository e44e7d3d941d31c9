; status: 9
; input: fog\n
; output: heard: fog\n
; SYSENTER: read and write through the door by which the kernel's own page comes back.
        .target x86-32
        .global _start
        .data
heard:  .ascii  "heard: "
text:   .skip   16
        .text
_start: mov     eax, 3                  ; read
        xor     ebx, ebx
        mov     ecx, text
        mov     edx, 16
        mov     ebp, 0x1234
        call    kernel
        cmp     ebp, 0x1234             ; what was pushed comes back
        jne     .lost
        cmp     ecx, text
        jne     .lost
        lea     edx, [eax + 7]
        mov     ebx, 1
        mov     eax, 4                  ; write
        mov     ecx, heard
        call    kernel
        lea     ebx, [eax - 2]          ; 11 letters less 2
        mov     eax, 1                  ; exit
        call    kernel
.lost:  hlt

kernel: push    ecx
        push    edx
        push    ebp
        mov     ebp, esp
        sysenter
