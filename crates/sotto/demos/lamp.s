; Lights the lamp of the Skerry light station: first output, and a clean exit.

        .target x86-64
        .global _start

        .rodata
text    db "lamp lit\n"
length  equ $ - text

        .text
_start:
        mov     eax, 1          ; write
        mov     edi, 1          ; to standard output
        mov     rsi, text       ; from here
        mov     edx, length     ; this many bytes
        syscall

        mov     eax, 60         ; exit
        xor     edi, edi        ; status 0: all is well
        syscall
