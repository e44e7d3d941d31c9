; The fog bell, in 32-bit code: arguments on the stack, and system calls by int 0x80.
; It rings once a minute and writes how often in a watch of so many minutes.

        .target x86-32
        .global _start, rings

        .data
text:   db      "rings 00", 10
length  equ     $ - text

        .text
_start: push    3                       ; minutes between two rings
        push    47                      ; minutes of the watch
        call    rings
        add     esp, 8                  ; the caller takes its arguments away
        mov     esi, eax                ; kept: a routine may change eax, ecx and edx
        aam                             ; tens to ah, ones to al
        add     [text + 6], ah
        add     [text + 7], al

        mov     eax, 4                  ; write
        mov     ebx, 1
        mov     ecx, text
        mov     edx, length
        int     0x80

        mov     eax, 1                  ; exit
        mov     ebx, esi
        int     0x80

;: how often the bell rings in a watch
;: takes    [esp + 4] = minutes: i32, [esp + 8] = interval: i32
;: returns  eax = rings
;: changes  edx
rings:  push    ebp
        mov     ebp, esp
        mov     eax, [ebp + 8]
        cdq
        idiv    dword [ebp + 12]
        inc     eax                     ; the first one at once
        pop     ebp
        ret
