//! Against compilers: the same C source, compiled for each machine and run under the emulator, gives
//! the number that it gives when compiled for this computer and run on it; and every instruction the
//! compiler chose is printed and assembled again to the same bytes, or to fewer.

mod common;

use std::path::Path;
use std::process::Command;

use sotto_asm::{Options, Source, assemble};
use sotto_isa::{Arch, Instruction, decode};
use sotto_kernel::{Startup, Stop, System};
use sotto_object::{Image, LinkOptions, link, read_executable, read_object, write_object};

/// A machine's compiler, what it needs to be told, and where the program ends up when its first
/// function returns to nobody: the number of arguments on x86, the link register's 0 on ARM.
const MACHINES: &[(Arch, &str, &[&str], u64)] = &[
    (Arch::X86_64, "cc", &["-fno-pie", "-no-pie"], 1),
    (Arch::Arm64, "aarch64-linux-gnu-gcc", &[], 0),
];

fn compile(compiler: &str, arguments: &[&str], source: &Path, output: &Path) {
    let result =
        Command::new(compiler).args(arguments).arg("-o").arg(output).arg(source).output().unwrap();
    assert!(result.status.success(), "{}", String::from_utf8_lossy(&result.stderr));
}

/// What the source computes when it is compiled for this computer.
fn native_result(source: &Path, folder: &Path) -> u64 {
    let native = folder.join("native");
    compile("cc", &["-O1", "-DPRINT"], source, &native);
    let printed = Command::new(&native).output().unwrap().stdout;
    String::from_utf8(printed).unwrap().trim().parse().unwrap()
}

/// Runs from the entry until it returns to nowhere; the value it returns.
fn result_of(image: &Image, end: u64) -> u64 {
    let mut system = System::start(image, &Startup::with_arguments(["buoys"])).unwrap();
    let stop = system.run(1 << 32).stop;
    assert!(matches!(stop, Stop::Terminated(_)), "{stop:?}");
    assert_eq!(system.machine.pc(), end, "it returned to where nobody called from: {stop:?}");
    system.machine.register(image.arch.convention().result)
}

/// Every instruction of the code, with its bytes.
fn instructions(image: &Image) -> Vec<(Instruction, Vec<u8>)> {
    let mut all = Vec::new();
    for segment in image.segments.iter().filter(|segment| segment.exec) {
        for (_, address, size, flags, _) in &segment.sections {
            let (mut at, end) = (*address, address + size);
            while flags.exec && at < end {
                let rest = &segment.data
                    [(at - segment.address) as usize..(end - segment.address) as usize];
                let instruction = decode(image.arch, rest, at).unwrap_or_else(|error| {
                    panic!("{at:#x} {:02x?}: {error}", &rest[..rest.len().min(15)])
                });
                at = instruction.end();
                let bytes = rest[..usize::from(instruction.length)].to_vec();
                all.push((instruction, bytes));
            }
        }
    }
    all
}

#[test]
fn compiled_programs_compute_what_they_compute_natively_and_reassemble() {
    if !common::has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = common::data().join("compiled/buoys.c");
    let wanted = native_result(&source, folder.path());

    for &(arch, compiler, extra, end) in MACHINES {
        if !common::has(compiler) {
            continue;
        }
        for level in ["-O0", "-O1", "-O2"] {
            let what = format!("{arch} {level}");
            let program = folder.path().join("program");
            let mut arguments = vec![
                level,
                "-ffreestanding",
                "-nostdlib",
                "-static",
                "-fno-stack-protector",
                "-mgeneral-regs-only",
                "-Wl,-e,check",
                "-Wl,--build-id=none",
            ];
            arguments.extend(extra);
            compile(compiler, &arguments, &source, &program);
            let image = read_executable(&std::fs::read(&program).unwrap()).unwrap();
            assert_eq!(image.arch, arch);
            assert_eq!(result_of(&image, end), wanted, "{what}");

            let all = instructions(&image);
            assert!(all.len() > 100, "{what}: only {} instructions", all.len());
            for (instruction, bytes) in all {
                common::reassembles(&instruction, &bytes);
            }
        }
    }
}

/// What the compilers print goes through our assembler, our objects and our linker, and computes what
/// it computes natively.
#[test]
fn what_compilers_print_assembles_links_and_runs() {
    if !common::has("cc") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let source = common::data().join("compiled/buoys.c");
    let wanted = native_result(&source, folder.path());
    for &(arch, compiler, _, end) in MACHINES {
        // On A64 compilers print aliases that no row has yet: UXTW, CINC.
        if arch == Arch::Arm64 || !common::has(compiler) {
            continue;
        }
        for level in ["-O0", "-O1", "-O2"] {
            let text = folder.path().join("buoys.s");
            let mut arguments = vec!["-S", level, "-ffreestanding", "-fno-stack-protector"];
            arguments.extend(["-mgeneral-regs-only", "-fno-pie"]);
            if arch == Arch::X86_64 {
                arguments.push("-fcf-protection=none");
            }
            compile(compiler, &arguments, &source, &text);
            let text = std::fs::read_to_string(&text).unwrap();
            let source = Source { name: "buoys.s".into(), text: text.into() };
            let assembly = assemble(&source, &Options::for_target(arch));
            let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
            let written = write_object(&object).unwrap();
            for object in [object, read_object("buoys.o", &written).unwrap()] {
                let options = LinkOptions { entry: "check".into(), ..LinkOptions::default() };
                let image = link(&[object], &options).unwrap();
                assert_eq!(result_of(&image, end), wanted, "{arch} {level}");
            }
        }
    }
}

/// A routine with every way to an address that A64 has: page and offset, literal, branches, calls.
const GAUGE: &str = "\
        .target arm64
        .global gauge
        .extern scale
gauge:  stp     x29, x30, [sp, #-32]!
        mov     x29, sp
        str     x19, [sp, #16]
        adrp    x1, readings
        add     x1, x1, :lo12:readings
        mov     w19, #0
        mov     w2, #4
.next:  ldr     w3, [x1], #4
        add     w19, w19, w3
        subs    w2, w2, #1
        b.ne    .next
        adrp    x4, offset
        ldr     w5, [x4, :lo12:offset]
        ldrb    w6, [x4, #:lo12:small]
        add     w0, w19, w5
        add     w0, w0, w6
        ldr     x7, =offset
        ldr     w7, [x7]
        add     w0, w0, w7
        ldr     x8, =0x123456789
        add     x0, x0, x8
        bl      scale
        tbnz    x0, #63, .done
        cbz     x0, .done
        adr     x9, gauge
        adr     x10, .done
        sub     x9, x10, x9
        add     x0, x0, x9
.done:  ldr     x19, [sp, #16]
        ldp     x29, x30, [sp], #32
        ret
        .data
        .p2align 3
readings: .word 412, 97, 388, 20
offset: .word   1000
small:  .byte   7
";

/// The linker of the cross compiler and ours make programs that compute the same.
#[test]
fn arm64_objects_link_with_compiled_ones_by_either_linker() {
    let compiler = "aarch64-linux-gnu-gcc";
    if !common::has(compiler) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let source = Source { name: "gauge.s".into(), text: GAUGE.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    std::fs::write(at("gauge.o"), write_object(&object).unwrap()).unwrap();
    let main = "long gauge(void);\nlong scale(long x) { return 3 * x; }\nlong check(void) { return gauge() + 1; }\n";
    std::fs::write(at("main.c"), main).unwrap();
    let free = ["-O1", "-ffreestanding", "-nostdlib", "-static", "-mgeneral-regs-only"];
    let mut arguments: Vec<&str> = free.to_vec();
    let object_path = at("gauge.o");
    arguments.extend(["-Wl,-e,check", "-Wl,--build-id=none", object_path.to_str().unwrap()]);
    compile(compiler, &arguments, &at("main.c"), &at("theirs"));
    let theirs = read_executable(&std::fs::read(at("theirs")).unwrap()).unwrap();
    compile(compiler, &[&free[..], &["-c"]].concat(), &at("main.c"), &at("main.o"));
    let main = read_object("main.o", &std::fs::read(at("main.o")).unwrap()).unwrap();
    let options = LinkOptions { entry: "check".into(), ..LinkOptions::default() };
    let ours = link(&[main, object], &options).unwrap();
    // The sum of the readings, the offset twice, the small one, the literal; times 3; the distance
    // from `gauge` to `.done`; and one.
    let sum = 412 + 97 + 388 + 20 + 1000 + 7 + 1000 + 0x1_2345_6789_u64;
    let wanted = 3 * sum + 28 * 4 + 1;
    assert_eq!(result_of(&ours, 0), wanted);
    assert_eq!(result_of(&theirs, 0), wanted);
}
