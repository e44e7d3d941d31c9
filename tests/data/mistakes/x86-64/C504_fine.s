; not C504: execution falls through into the next routine
        .target x86-64
        .global _start
        .text
_start: xor     ebx, ebx
night:  inc     ebx                     ; a label within, that is jumped to
        cmp     ebx, 3
        jb      night
        call    lamp
        call    buoy
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
lamp:   jmp     buoy                    ; the next one, and meant
buoy:   ret
