; C504: execution falls through into the next routine
        .target x86-64
        .global _start
        .text
;: returns ecx = count
;: changes eax
lamps:  mov     ecx, 3
;: returns eax = count
;: keeps rcx
buoys:  mov     eax, 12
        ret
_start: call    buoys
        mov     ebx, eax
        call    lamps
        lea     edi, [rcx + rbx]
        mov     eax, 60                 ; exit
        syscall
