; status: 21
; output: \n
; Recursion with the argument on the stack, a table of routines, strings that go down, segments, far calls.
        .target x86-32
        .global _start
        .data
chain:  dd 1, 2, 3, 4, 5, 6
jumps:  dd even, odd
newline: db 10
copy:   .skip 24
        .text
_start:
        push    6
        call    buoys
        pop     ecx
        mov     esi, eax
        and     eax, 1
        call    [jumps + eax*4]
        ; the chain once more, from its end
        push    esi
        std
        mov     esi, chain + 20
        mov     edi, copy + 20
        mov     ecx, 6
        rep     movsd
        cld
        pop     esi
        mov     eax, ds
        mov     es, ax
        cmp     dword es:[copy], 1
        jne     wrong
        cmp     dword ds:[copy + 20], 6
        jne     wrong
        push    cs
        call    far_away
        mov     eax, 4
        mov     ebx, 1
        mov     ecx, newline
        mov     edx, 1
        int     0x80
        mov     ebx, esi
        mov     eax, 1
        int     0x80
wrong:  mov     ebx, 99
        mov     eax, 1
        int     0x80

buoys:  enter   0, 0
        mov     eax, [ebp + 8]
        test    eax, eax
        jz      .end
        dec     eax
        push    eax
        call    buoys
        add     esp, 4
        mov     ecx, [ebp + 8]
        add     eax, [chain + ecx*4 - 4]
.end:   leave
        ret
even:   mov     esi, 98
        ret
odd:    inc     edi
        ret
far_away:
        retf
