; C505: a jump into the middle of an instruction
        .target x86-64
        .global _start
        .text
_start: mov     ecx, 3
.again: mov     edx, 1
        add     ecx, edx
        jz      .again + 1              ; not where it begins
        mov     eax, 60                 ; exit
        xor     edi, edi
        syscall
