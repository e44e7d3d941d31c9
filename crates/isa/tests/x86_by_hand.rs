//! One encoding of every instruction and operand kind, worked out from the manual's opcode tables
//! and the tables of ModRM and SIB bytes, and read back to the text a person would write.

use sotto_isa::{Arch, NoNames, decode};

const AT: u64 = 0x1000;

/// Bytes as hex, and the instruction.
const CASES: &[(&str, &str)] = &[
    // SDM Vol. 2B, MOV
    ("88 c8", "mov al, cl"),
    ("66 89 c8", "mov ax, cx"),
    ("89 c8", "mov eax, ecx"),
    ("48 89 c8", "mov rax, rcx"),
    ("4d 89 c8", "mov r8, r9"),
    ("8a 07", "mov al, [rdi]"),
    ("66 8b 07", "mov ax, [rdi]"),
    ("8b 47 08", "mov eax, [rdi + 8]"),
    ("48 8b 87 00 01 00 00", "mov rax, [rdi + 256]"),
    ("b1 05", "mov cl, 5"),
    ("66 b9 05 00", "mov cx, 5"),
    ("b9 05 00 00 00", "mov ecx, 5"),
    ("48 c7 c1 05 00 00 00", "mov rcx, 5"),
    ("48 b9 88 77 66 55 44 33 22 11", "mov rcx, 0x1122334455667788"),
    ("c6 01 05", "mov byte [rcx], 5"),
    ("66 c7 01 05 00", "mov word [rcx], 5"),
    ("c7 01 05 00 00 00", "mov dword [rcx], 5"),
    ("48 c7 01 fb ff ff ff", "mov qword [rcx], -5"),
    ("48 a1 00 00 00 00 01 00 00 00", "mov rax, [0x100000000]"),
    ("a2 00 00 00 00 01 00 00 00", "mov [0x100000000], al"),
    // The address forms of tables 2-2 and 2-3.
    ("8b 04 24", "mov eax, [rsp]"),
    ("8b 45 00", "mov eax, [rbp]"),
    ("41 8b 04 24", "mov eax, [r12]"),
    ("41 8b 45 00", "mov eax, [r13]"),
    ("8b 04 8b", "mov eax, [rbx + rcx*4]"),
    ("8b 44 8b f8", "mov eax, [rbx + rcx*4 - 8]"),
    ("8b 04 cd 00 10 00 00", "mov eax, [rcx*8 + 4096]"),
    ("8b 04 25 00 00 60 00", "mov eax, [0x600000]"),
    ("8b 05 10 00 00 00", "mov eax, [rip + 16]"),
    ("67 8b 03", "mov eax, [ebx]"),
    ("42 8b 04 23", "mov eax, [rbx + r12]"),
    ("43 8b 04 6c", "mov eax, [r12 + r13*2]"),
    // MOVZX, MOVSX, MOVSXD
    ("0f b6 c1", "movzx eax, cl"),
    ("66 0f b6 c1", "movzx ax, cl"),
    ("48 0f b7 01", "movzx rax, word [rcx]"),
    ("40 0f b6 c6", "movzx eax, sil"),
    ("0f be c5", "movsx eax, ch"),
    ("0f bf 01", "movsx eax, word [rcx]"),
    ("48 63 01", "movsxd rax, dword [rcx]"),
    // LEA, PUSH, POP, XCHG
    ("48 8d 44 4f 07", "lea rax, [rdi + rcx*2 + 7]"),
    ("8d 07", "lea eax, [rdi]"),
    ("50", "push rax"),
    ("41 57", "push r15"),
    ("66 51", "push cx"),
    ("ff 31", "push qword [rcx]"),
    ("6a ff", "push -1"),
    ("68 00 01 00 00", "push 256"),
    ("66 6a ff", "pushw -1"),
    ("66 68 00 01", "pushw 256"),
    ("5b", "pop rbx"),
    ("c9", "leave"),
    ("8f 00", "pop qword [rax]"),
    ("93", "xchg ebx, eax"),
    ("48 87 0a", "xchg [rdx], rcx"),
    ("86 e0", "xchg al, ah"),
    // CMOVcc
    ("0f 44 c1", "cmove eax, ecx"),
    ("48 0f 4f 02", "cmovg rax, [rdx]"),
    ("66 0f 42 c1", "cmovb ax, cx"),
    // The eight operations of the first opcode block.
    ("01 d8", "add eax, ebx"),
    ("03 03", "add eax, [rbx]"),
    ("04 07", "add al, 7"),
    ("83 c3 07", "add ebx, 7"),
    ("81 c3 00 01 00 00", "add ebx, 256"),
    ("80 03 07", "add byte [rbx], 7"),
    ("48 05 00 01 00 00", "add rax, 256"),
    ("11 d8", "adc eax, ebx"),
    ("48 83 d3 07", "adc rbx, 7"),
    ("29 d8", "sub eax, ebx"),
    ("66 83 eb 07", "sub bx, 7"),
    ("19 d8", "sbb eax, ebx"),
    ("39 d8", "cmp eax, ebx"),
    ("3c 41", "cmp al, 65"),
    ("80 3f 00", "cmp byte [rdi], 0"),
    ("48 3b 07", "cmp rax, [rdi]"),
    ("21 d8", "and eax, ebx"),
    ("48 83 e4 f0", "and rsp, -16"),
    ("09 d8", "or eax, ebx"),
    ("31 c0", "xor eax, eax"),
    ("45 31 c9", "xor r9d, r9d"),
    ("85 c0", "test eax, eax"),
    ("a8 01", "test al, 1"),
    ("f6 c1 01", "test cl, 1"),
    ("48 f7 c1 00 01 00 00", "test rcx, 256"),
    // One operand.
    ("ff c0", "inc eax"),
    ("fe 00", "inc byte [rax]"),
    ("48 ff c9", "dec rcx"),
    ("f7 d8", "neg eax"),
    ("66 f7 18", "neg word [rax]"),
    ("f7 d0", "not eax"),
    ("f6 d4", "not ah"),
    // Shifts and rotates: by 1, by CL, by a constant.
    ("d1 e0", "shl eax, 1"),
    ("48 c1 e0 04", "shl rax, 4"),
    ("d3 e0", "shl eax, cl"),
    ("d0 2f", "shr byte [rdi], 1"),
    ("c1 f8 1f", "sar eax, 31"),
    ("66 c1 c0 08", "rol ax, 8"),
    ("d2 c8", "ror al, cl"),
    ("48 d1 d0", "rcl rax, 1"),
    ("c0 d8 03", "rcr al, 3"),
    // Bits, byte order, the carry flag, exchanges.
    ("0f a3 c8", "bt eax, ecx"),
    ("48 0f ba 20 3f", "bt qword [rax], 63"),
    ("66 0f ab 08", "bts [rax], cx"),
    ("0f ba f2 05", "btr edx, 5"),
    ("48 0f bb d8", "btc rax, rbx"),
    ("f3 0f b8 c1", "popcnt eax, ecx"),
    ("66 f3 0f b8 c1", "popcnt ax, cx"),
    ("f3 48 0f b8 07", "popcnt rax, [rdi]"),
    ("0f c9", "bswap ecx"),
    ("49 0f c8", "bswap r8"),
    ("0f c0 e1", "xadd cl, ah"),
    ("48 0f c1 0f", "xadd [rdi], rcx"),
    ("0f b1 0f", "cmpxchg [rdi], ecx"),
    ("44 0f b0 c3", "cmpxchg bl, r8b"),
    ("f8", "clc"),
    ("f9", "stc"),
    ("f5", "cmc"),
    // Multiplication and division.
    ("f7 e1", "mul ecx"),
    ("48 f7 21", "mul qword [rcx]"),
    ("f6 e9", "imul cl"),
    ("0f af c1", "imul eax, ecx"),
    ("6b c1 0a", "imul eax, ecx, 10"),
    ("48 69 01 e8 03 00 00", "imul rax, [rcx], 1000"),
    ("f7 f1", "div ecx"),
    ("48 f7 f9", "idiv rcx"),
    ("f6 f1", "div cl"),
    ("66 98", "cbw"),
    ("98", "cwde"),
    ("48 98", "cdqe"),
    ("66 99", "cwd"),
    ("99", "cdq"),
    ("48 99", "cqo"),
    // Control.
    ("eb 10", "jmp 0x1012"),
    ("e9 00 01 00 00", "jmp 0x1105"),
    ("ff e0", "jmp rax"),
    ("ff 24 c5 00 20 40 00", "jmp qword [rax*8 + 0x402000]"),
    ("74 fe", "je 0x1000"),
    ("0f 8c 00 01 00 00", "jl 0x1106"),
    ("77 00", "ja 0x1002"),
    ("e8 fb ff ff ff", "call 0x1000"),
    ("41 ff d4", "call r12"),
    ("ff 13", "call qword [rbx]"),
    ("c3", "ret"),
    ("c2 10 00", "ret 16"),
    ("e2 fe", "loop 0x1000"),
    ("e1 fe", "loope 0x1000"),
    ("e0 fe", "loopne 0x1000"),
    ("e3 00", "jrcxz 0x1002"),
    ("67 e3 00", "jecxz 0x1003"),
    ("0f 94 c0", "sete al"),
    ("41 0f 97 c0", "seta r8b"),
    ("0f 9c 03", "setl byte [rbx]"),
    ("90", "nop"),
    ("0f 1f 40 00", "nop dword [rax]"),
    ("66 0f 1f 44 00 00", "nop word [rax + rax]"),
    ("f3 90", "pause"),
    ("0f 05", "syscall"),
    ("cc", "int3"),
    ("0f 0b", "ud2"),
    // String instructions: SDM Vol. 2A and 2B, MOVS, CMPS, STOS, LODS, SCAS, REP
    ("a4", "movsb"),
    ("66 a5", "movsw"),
    ("a5", "movsd"),
    ("48 a5", "movsq"),
    ("f3 48 a5", "rep movsq"),
    ("a6", "cmpsb"),
    ("66 a7", "cmpsw"),
    ("a7", "cmpsd"),
    ("48 a7", "cmpsq"),
    ("f3 a6", "repe cmpsb"),
    ("f2 a6", "repne cmpsb"),
    ("aa", "stosb"),
    ("66 ab", "stosw"),
    ("ab", "stosd"),
    ("48 ab", "stosq"),
    ("f3 aa", "rep stosb"),
    ("ac", "lodsb"),
    ("66 ad", "lodsw"),
    ("ad", "lodsd"),
    ("48 ad", "lodsq"),
    ("ae", "scasb"),
    ("66 af", "scasw"),
    ("af", "scasd"),
    ("48 af", "scasq"),
    ("f2 ae", "repne scasb"),
    // Scans, double shifts, BMI, ADX and their neighbours
    ("0f bc c1", "bsf eax, ecx"),
    ("48 0f bd 01", "bsr rax, [rcx]"),
    ("f3 0f bc c1", "tzcnt eax, ecx"),
    ("66 f3 0f bd c1", "lzcnt ax, cx"),
    ("0f a4 d0 03", "shld eax, edx, 3"),
    ("48 0f ad 11", "shrd [rcx], rdx, cl"),
    ("c4 e2 70 f2 c2", "andn eax, ecx, edx"),
    ("c4 e2 e8 f7 01", "bextr rax, [rcx], rdx"),
    ("c4 e2 78 f3 d9", "blsi eax, ecx"),
    ("c4 e2 78 f3 d1", "blsmsk eax, ecx"),
    ("c4 e2 78 f3 c9", "blsr eax, ecx"),
    ("c4 e2 68 f5 c1", "bzhi eax, ecx, edx"),
    ("c4 e2 73 f5 c2", "pdep eax, ecx, edx"),
    ("c4 e2 72 f5 c2", "pext eax, ecx, edx"),
    ("c4 e3 7b f0 c1 07", "rorx eax, ecx, 7"),
    ("c4 42 82 f7 c8", "sarx r9, r8, r15"),
    ("c4 e2 69 f7 c1", "shlx eax, ecx, edx"),
    ("c4 e2 6b f7 c1", "shrx eax, ecx, edx"),
    ("c4 e2 73 f6 c3", "mulx eax, ecx, ebx"),
    ("66 0f 38 f6 c1", "adcx eax, ecx"),
    ("f3 48 0f 38 f6 c1", "adox rax, rcx"),
    ("0f 38 f0 01", "movbe eax, [rcx]"),
    ("f2 0f 38 f0 c1", "crc32 eax, cl"),
    ("66 f2 0f 38 f1 c1", "crc32 eax, cx"),
    ("0f c7 0b", "cmpxchg8b qword [rbx]"),
    ("48 0f c7 0b", "cmpxchg16b xmmword [rbx]"),
    // Prefixes
    ("f0 01 03", "lock add [rbx], eax"),
    ("f0 48 0f c1 0a", "lock xadd [rdx], rcx"),
    ("66 f0 0f b1 0a", "lock cmpxchg [rdx], cx"),
    ("64 48 8b 04 25 28 00 00 00", "mov rax, fs:[40]"),
    ("65 8b 04 8b", "mov eax, gs:[rbx + rcx*4]"),
    ("3e ff e0", "notrack jmp rax"),
    ("3e ff d0", "notrack call rax"),
    ("f3 c3", "rep ret"),
    // Flags, segments, and what is the processor's own
    ("c8 10 00 01", "enter 16, 1"),
    ("fc", "cld"),
    ("fd", "std"),
    ("9f", "lahf"),
    ("9e", "sahf"),
    ("9c", "pushfq"),
    ("66 9c", "pushfw"),
    ("9d", "popfq"),
    ("66 9d", "popfw"),
    ("d7", "xlatb"),
    ("8c e0", "mov eax, fs"),
    ("8c 18", "mov word [rax], ds"),
    ("0f 00 c0", "sldt eax"),
    ("48 0f 00 c0", "sldt rax"),
    ("0f 00 08", "str word [rax]"),
    ("66 0f 01 e1", "smsw cx"),
    ("0f 01 04 24", "sgdt [rsp]"),
    ("41 0f 01 08", "sidt [r8]"),
    ("42 8c 64 8f 08", "mov word [rdi + r9*4 + 8], fs"),
    ("8e d8", "mov ds, eax"),
    ("f3 48 0f ae c0", "rdfsbase rax"),
    ("f3 48 0f ae c8", "rdgsbase rax"),
    ("f3 48 0f ae d0", "wrfsbase rax"),
    ("f3 48 0f ae d8", "wrgsbase rax"),
    ("0f a2", "cpuid"),
    ("0f 31", "rdtsc"),
    ("0f 01 f9", "rdtscp"),
    ("f3 0f c7 f8", "rdpid rax"),
    ("48 0f c7 f0", "rdrand rax"),
    ("0f c7 f8", "rdseed eax"),
    ("0f 18 03", "prefetchnta [rbx]"),
    ("0f 18 0b", "prefetcht0 [rbx]"),
    ("0f 18 13", "prefetcht1 [rbx]"),
    ("0f 18 1b", "prefetcht2 [rbx]"),
    ("0f 0d 03", "prefetch [rbx]"),
    ("0f 0d 0b", "prefetchw [rbx]"),
    ("0f 0d 13", "prefetchwt1 [rbx]"),
    ("0f ae 3b", "clflush byte [rbx]"),
    ("0f ae e8", "lfence"),
    ("0f ae f0", "mfence"),
    ("0f ae f8", "sfence"),
    ("0f c3 03", "movnti [rbx], eax"),
    ("cd 80", "int 0x80"),
    ("d9 7c 24 fe", "fnstcw word [rsp - 2]"),
    ("d9 6c 24 fe", "fldcw word [rsp - 2]"),
    ("dd 3f", "fnstsw word [rdi]"),
    ("df e0", "fnstsw ax"),
    ("d9 37", "fnstenv [rdi]"),
    ("d9 27", "fldenv [rdi]"),
    ("db e2", "fnclex"),
    ("db e3", "fninit"),
    ("9b", "fwait"),
    ("f1", "int1"),
    ("0f b9 c1", "ud1 eax, ecx"),
    ("0f ff c1", "ud0 eax, ecx"),
    ("f4", "hlt"),
    ("fa", "cli"),
    ("fb", "sti"),
    ("e4 60", "in al, 96"),
    ("ec", "in al, dx"),
    ("66 ef", "out dx, ax"),
    ("e7 60", "out 96, eax"),
    ("6c", "insb"),
    ("66 6d", "insw"),
    ("6d", "insd"),
    ("6e", "outsb"),
    ("66 6f", "outsw"),
    ("6f", "outsd"),
    ("0f 06", "clts"),
    ("0f 08", "invd"),
    ("0f 09", "wbinvd"),
    ("0f 30", "wrmsr"),
    ("0f 32", "rdmsr"),
    ("0f 33", "rdpmc"),
    ("0f 01 f8", "swapgs"),
    ("0f 01 13", "lgdt [rbx]"),
    ("0f 01 1b", "lidt [rbx]"),
    ("0f 01 3b", "invlpg [rbx]"),
    ("66 0f 00 d0", "lldt ax"),
    ("66 0f 00 d8", "ltr ax"),
    ("66 0f 01 f0", "lmsw ax"),
    // One of each shape of vector instruction
    ("0f 28 c1", "movaps xmm0, xmm1"),
    ("0f 29 07", "movaps [rdi], xmm0"),
    ("f3 0f 6f 07", "movdqu xmm0, [rdi]"),
    ("f3 0f 10 07", "movss xmm0, [rdi]"),
    ("f2 0f 11 07", "movsd [rdi], xmm0"),
    ("f2 0f 10 c1", "movsd xmm0, xmm1"),
    ("66 0f 6e c0", "movd xmm0, eax"),
    ("66 48 0f 6e c0", "movq xmm0, rax"),
    ("66 48 0f 7e c0", "movq rax, xmm0"),
    ("f3 0f 7e c1", "movq xmm0, xmm1"),
    ("66 0f d6 07", "movq [rdi], xmm0"),
    ("0f 12 07", "movlps xmm0, [rdi]"),
    ("0f 12 c1", "movhlps xmm0, xmm1"),
    ("0f 17 07", "movhps [rdi], xmm0"),
    ("66 0f d7 c1", "pmovmskb eax, xmm1"),
    ("f2 0f 58 c1", "addsd xmm0, xmm1"),
    ("f2 44 0f 58 07", "addsd xmm8, [rdi]"),
    ("66 0f 58 c1", "addpd xmm0, xmm1"),
    ("0f 58 c1", "addps xmm0, xmm1"),
    ("f3 0f 51 c1", "sqrtss xmm0, xmm1"),
    ("f2 0f c2 c1 01", "cmpsd xmm0, xmm1, 1"),
    ("66 0f 2f c1", "comisd xmm0, xmm1"),
    ("f2 0f 2a c0", "cvtsi2sd xmm0, eax"),
    ("f2 48 0f 2a c0", "cvtsi2sd xmm0, rax"),
    ("f2 0f 2a 07", "cvtsi2sd xmm0, dword [rdi]"),
    ("f2 48 0f 2c c1", "cvttsd2si rax, xmm1"),
    ("66 0f fe c1", "paddd xmm0, xmm1"),
    ("66 0f 38 00 c1", "pshufb xmm0, xmm1"),
    ("66 0f 70 c1 1b", "pshufd xmm0, xmm1, 27"),
    ("66 0f 73 d8 04", "psrldq xmm0, 4"),
    ("66 0f 3a 20 07 03", "pinsrb xmm0, [rdi], 3"),
    ("66 0f 3a 22 c0 01", "pinsrd xmm0, eax, 1"),
    ("66 48 0f 3a 16 c0 01", "pextrq rax, xmm0, 1"),
    ("66 0f c5 c1 02", "pextrw eax, xmm1, 2"),
    ("66 0f 38 10 c1", "pblendvb xmm0, xmm1, xmm0"),
    ("66 0f 3a 63 c1 0c", "pcmpistri xmm0, xmm1, 12"),
    ("66 0f 38 20 07", "pmovsxbw xmm0, [rdi]"),
    ("0f ae 17", "ldmxcsr dword [rdi]"),
    // SDM Vol. 2A, LDS/LES/LFS/LGS/LSS, JMP, CALL, IRET; Vol. 2B, PUSH, POP, RET: other segments
    // Strings with their memory written out: SDM Vol. 2B, MOVS, STOS; Vol. 2D, XLAT
    ("67 a4", "movs byte [edi], byte [esi]"),
    ("64 48 a5", "movs qword [rdi], qword fs:[rsi]"),
    ("f3 67 ab", "rep stos dword [edi]"),
    ("65 ac", "lods byte gs:[rsi]"),
    ("67 ae", "scas byte [edi]"),
    ("67 aa", "stos byte [edi]"),
    ("f2 67 66 af", "repne scas word [edi]"),
    ("67 a6", "cmps byte [esi], byte [edi]"),
    ("64 d7", "xlat fs:[rbx]"),
    ("67 e2 fd", "loopd 0x1000"),
    ("67 e1 fd", "looped 0x1000"),
    ("67 e0 fd", "loopned 0x1000"),
    ("0f a0", "push fs"),
    ("66 0f a9", "popw gs"),
    ("0f b2 07", "lss eax, [rdi]"),
    ("0f 02 c1", "lar eax, ecx"),
    ("0f 03 07", "lsl eax, [rdi]"),
    ("0f 00 e0", "verr ax"),
    ("0f 00 e8", "verw ax"),
    ("0f b4 07", "lfs eax, [rdi]"),
    ("48 0f b5 07", "lgs rax, [rdi]"),
    ("ff 2f", "jmpf [rdi]"),
    ("48 ff 2f", "jmpfq [rdi]"),
    ("ff 1f", "callf [rdi]"),
    ("48 ff 1f", "callfq [rdi]"),
    ("cb", "retf"),
    ("ca 08 00", "retf 8"),
    ("48 cb", "retfq"),
    ("cf", "iretd"),
    ("48 cf", "iretq"),
    ("0f ae 1f", "stmxcsr dword [rdi]"),
    ("0f ae 07", "fxsave [rdi]"),
];

/// What 32-bit mode has beside the instructions of 64-bit mode, or reads differently.
const CASES_32: &[(&str, &str)] = &[
    // SDM Vol. 2A, 2.1.5: addresses
    ("8b 05 00 00 60 00", "mov eax, [0x600000]"),
    ("a1 00 00 60 00", "mov eax, [0x600000]"),
    ("8b 44 24 04", "mov eax, [esp + 4]"),
    ("8b 04 8d 00 00 60 00", "mov eax, [ecx*4 + 0x600000]"),
    ("65 a1 14 00 00 00", "mov eax, gs:[20]"),
    ("26 8b 07", "mov eax, es:[edi]"),
    ("2e 8b 07", "mov eax, cs:[edi]"),
    ("36 8b 07", "mov eax, ss:[edi]"),
    ("3e 8b 07", "mov eax, ds:[edi]"),
    // Table 2-1: addresses of 16 bits
    ("67 8b 00", "mov eax, [bx + si]"),
    ("67 8b 43 08", "mov eax, [bp + di + 8]"),
    ("67 8b 46 00", "mov eax, [bp]"),
    ("67 8b 87 00 01", "mov eax, [bx + 256]"),
    // What the mode's width changes
    ("50", "push eax"),
    ("66 50", "push ax"),
    ("68 00 00 60 00", "push 0x600000"),
    ("6a ff", "push -1"),
    ("ff 37", "push dword [edi]"),
    ("8f 07", "pop dword [edi]"),
    ("ff d0", "call eax"),
    ("ff 27", "jmp dword [edi]"),
    ("e8 fb ff ff ff", "call 0x1000"),
    ("9c", "pushfd"),
    ("9d", "popfd"),
    ("66 9d", "popfw"),
    ("e3 fe", "jecxz 0x1000"),
    ("67 e3 fd", "jcxz 0x1000"),
    ("67 e2 fd", "loopw 0x1000"),
    ("67 e1 fd", "loopew 0x1000"),
    ("67 e0 fd", "loopnew 0x1000"),
    ("67 a4", "movs byte [di], byte [si]"),
    ("e2 fe", "loop 0x1000"),
    ("f3 a5", "rep movsd"),
    // One-byte forms: SDM Vol. 2A, INC, DEC; Vol. 2B, PUSHA, POPA
    ("40", "inc eax"),
    ("66 4f", "dec di"),
    ("60", "pushad"),
    ("66 60", "pushaw"),
    ("61", "popad"),
    ("66 61", "popaw"),
    // The immediate group's second opcode
    ("82 c0 05", "add al, 5"),
    // Decimal numbers: DAA, DAS, AAA, AAS, AAM, AAD
    ("27", "daa"),
    ("2f", "das"),
    ("37", "aaa"),
    ("3f", "aas"),
    ("d4 0a", "aam"),
    ("d4 10", "aam 16"),
    ("d5 0a", "aad"),
    ("d5 10", "aad 16"),
    ("ce", "into"),
    ("62 07", "bound eax, qword [edi]"),
    ("66 62 07", "bound ax, dword [edi]"),
    ("63 c8", "arpl ax, cx"),
    // Segments
    ("06", "push es"),
    ("0e", "push cs"),
    ("17", "pop ss"),
    ("1f", "pop ds"),
    ("c4 07", "les eax, [edi]"),
    ("c5 07", "lds eax, [edi]"),
    ("66 0f b4 07", "lfs ax, [edi]"),
    ("ea 00 00 60 00 23 00", "jmpf 35, 0x600000"),
    ("9a 00 00 60 00 23 00", "callf 35, 0x600000"),
    ("cb", "retf"),
    ("cf", "iretd"),
    // C4 and C5 before a register are VEX here too.
    ("c4 e2 60 f2 c1", "andn eax, ebx, ecx"),
];

fn bytes(hex: &str) -> Vec<u8> {
    hex.split(' ').map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect()
}

#[test]
fn bytes_by_hand_read_as_the_manual_says() {
    let cases = CASES.iter().map(|case| (Arch::X86_64, case));
    let cases = cases.chain(CASES_32.iter().map(|case| (Arch::X86_32, case)));
    for (arch, (hex, wanted)) in cases {
        let bytes = bytes(hex);
        let instruction = decode(arch, &bytes, AT).unwrap_or_else(|e| panic!("{hex}: {e}"));
        // An address with neither a register beside it nor another form needs no width.
        let text = instruction.print(&NoNames);
        assert_eq!(text, *wanted, "{hex}");
        assert_eq!(usize::from(instruction.length), bytes.len(), "{hex}");
    }
}

#[test]
fn the_cases_name_every_mnemonic_of_the_table_but_the_conditions() {
    let named: std::collections::HashSet<&str> =
        CASES.iter().chain(CASES_32).map(|(_, text)| text.split(' ').next().unwrap()).collect();
    // Whether a vector instruction has the opcode that the manual gives it, the processor itself tells
    // in the lockstep tests; here one of each shape is enough.
    let vector = |arch: Arch, name: &str| {
        let docs = sotto_isa::form_docs(arch, name);
        docs.iter().all(|doc| doc.syntax.contains("xmm") || doc.summary.contains("floating point"))
    };
    let conditional = |name: &str| ["j", "set", "cmov"].iter().any(|start| name.starts_with(start));
    let names = |arch| sotto_isa::mnemonics(arch).iter().map(move |name| (arch, name));
    for (arch, name) in names(Arch::X86_64).chain(names(Arch::X86_32)) {
        let docs = sotto_isa::form_docs(arch, name);
        // A name with a prefix before it is held to the name without.
        let preferred = docs[0].mnemonic;
        assert!(
            preferred.contains(' ')
                || vector(arch, preferred)
                || named.contains(preferred)
                || conditional(preferred)
                || preferred.starts_with("endbr"),
            "{preferred} has no worked example"
        );
    }
}

/// Conditions come in the order of their encodings: the low four bits of the opcode.
#[test]
fn conditions_by_their_encodings() {
    let names =
        ["o", "no", "b", "ae", "e", "ne", "be", "a", "s", "ns", "p", "np", "l", "ge", "le", "g"];
    for (low, name) in names.iter().enumerate() {
        let low = low as u8;
        for (bytes, mnemonic) in [
            (vec![0x70 | low, 0], format!("j{name}")),
            (vec![0x0f, 0x80 | low, 0, 0, 0, 0], format!("j{name}")),
            (vec![0x0f, 0x90 | low, 0xc0], format!("set{name}")),
            (vec![0x0f, 0x40 | low, 0xc1], format!("cmov{name}")),
        ] {
            let instruction = decode(Arch::X86_64, &bytes, AT).unwrap();
            assert_eq!(instruction.mnemonic(), mnemonic, "{bytes:x?}");
        }
    }
}

#[test]
fn bytes_that_no_row_has_are_refused() {
    for hex in [
        "06",
        "8d c0",
        "67 8b 05 00 00 00 00",
        "d6",
        "8f 48 00",
        "f0 8b 03",
        "f0 01 c0",
        "0f 3a ff",
        "66 c5 f8 28",
        "c4 e3 73 f0 c1 07",
    ] {
        let mut bytes = bytes(hex);
        bytes.resize(15, 0);
        assert!(decode(Arch::X86_64, &bytes, AT).is_err(), "{hex}");
    }
    // Fifteen prefixes leave no room for an opcode.
    assert!(decode(Arch::X86_64, &[0x66; 15], AT).is_err());
}
