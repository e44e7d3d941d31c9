; The flash pattern of the lamp, one bit a second: counts the seconds of light,
; then says whether the pattern is lit long enough to be seen.

        .target x86-64
        .global _start

pattern equ 1110_0110_0000b

        .rodata
bright  db "bright enough\n"
bright_length equ $ - bright
dim     db "too dim\n"
dim_length equ $ - dim

        .text
_start:
        mov     edi, pattern
        call    lit_seconds
        cmp     eax, 4
        jb      .dim

        mov     rsi, bright
        mov     edx, bright_length
        jmp     .say
.dim:
        mov     rsi, dim
        mov     edx, dim_length
.say:
        mov     eax, 1
        mov     edi, 1
        syscall
        mov     eax, 60
        xor     edi, edi
        syscall

;: seconds of light in a flash pattern of one bit a second
;: takes    edi = pattern
;: returns  eax = seconds
;: changes  rdi
lit_seconds:
        push    rbx                     ; preserved for the caller
        xor     ebx, ebx
.bit:
        test    edi, edi
        jz      .done
        shr     edi, 1                  ; the last bit goes to the carry flag
        adc     ebx, 0                  ; and is added here
        jmp     .bit
.done:
        mov     eax, ebx
        pop     rbx
        ret
