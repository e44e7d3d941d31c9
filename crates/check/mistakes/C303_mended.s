; C303, mended
        .target x86-64
        .global _start
        .text
_start: mov     eax, 3                  ; close
        mov     edi, 77
        syscall
        test    eax, eax
        js      .failed
.failed:
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
