; status: 7
; output: mean 7\n
; Arguments on the stack, a frame, and what only 32-bit mode has: pusha, a decimal correction, one-byte steps.
        .global _start, tide_mean
        .data
tide:   dd 4, 7, 9, 8
line:   db "mean 0", 10
length  equ $ - line
        .text
_start:
        push    4
        push    tide
        call    tide_mean
        add     esp, 8
        mov     ebp, eax                ; kept: a system call changes eax alone
        aam                             ; tens to ah, ones to al
        add     [line + 5], al
        pushad
        mov     eax, 4
        mov     ebx, 1
        mov     ecx, line
        mov     edx, length
        int     0x80
        popad
        mov     ebx, ebp
        mov     eax, 1
        int     0x80

;: takes    [esp + 4] = table: address, [esp + 8] = count
;: returns  eax = mean
;: changes  ecx, edx
tide_mean:
        push    ebp
        mov     ebp, esp
        push    esi
        mov     esi, [ebp + 8]
        mov     ecx, [ebp + 12]
        xor     eax, eax
.next:
        add     eax, [esi + ecx*4 - 4]
        dec     ecx
        jnz     .next
        cdq
        idiv    dword [ebp + 12]
        pop     esi
        leave
        ret
