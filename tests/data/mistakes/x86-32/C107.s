; C107: a routine changes a register that its contract does not list
        .target x86-32
        .global _start
        .text
;: takes    [esp + 4] = depth
;: returns  eax = twice
lamp:   mov     ecx, [esp + 4]
        lea     eax, [ecx + ecx]
        ret
_start: xor     ecx, ecx
        push    4
        call    lamp
        add     esp, 4
        mov     eax, 1                  ; exit
        xor     ebx, ebx
        int     0x80
