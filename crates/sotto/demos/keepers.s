; Two keepers light a hundred lamps each, at once, and count them together. The exit status is the count.
; `sotto run --interleavings 100 keepers.s` finds that some are not counted: `inc` reads and writes, and the
; other keeper may write in between. With `lock inc` none is lost.

        .target x86-64
        .global _start

        .bss
        .balign 16
room:   .skip 4096              ; the second keeper's stack
lamps:  .skip 8                 ; lamps that were counted
lit:    .skip 4                 ; 1 when the second keeper is done

        .text
_start:
        mov     eax, 56         ; clone
        mov     edi, 0x10f00    ; CLONE_VM, _FS, _FILES, _SIGHAND, _THREAD
        lea     rsi, [room + 4096]
        xor     edx, edx
        xor     r10d, r10d
        xor     r8d, r8d
        syscall
        test    eax, eax        ; 0 in the second keeper
        jz      second
        call    light
.wait:
        mov     eax, 202        ; futex
        lea     rdi, [lit]
        xor     esi, esi        ; FUTEX_WAIT
        xor     edx, edx        ; while it is 0
        xor     r10d, r10d      ; for as long as it takes
        syscall
        cmp     dword [lit], 0
        je      .wait
        mov     edi, [lamps]
        mov     eax, 231        ; exit_group
        syscall

second:
        call    light
        mov     dword [lit], 1
        mov     eax, 202
        lea     rdi, [lit]
        mov     esi, 1          ; FUTEX_WAKE
        mov     edx, 1          ; one keeper
        syscall
        xor     edi, edi
        mov     eax, 60         ; exit, of this thread
        syscall

light:
        mov     ecx, 100
.lamp:
        inc     qword [lamps]
        dec     ecx
        jnz     .lamp
        ret
