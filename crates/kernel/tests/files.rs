//! Files as programs without a library find them: /proc, mapped files, directories, polling, files from outside, and snapshots.

use sotto_asm::{Options, Source, assemble};
use sotto_kernel::{HOME, StartFile, StartKind, Startup, Stop, System, Termination};
use sotto_object::{LinkOptions, link};

/// Makes calls one after the other, each `number, arguments`; their results. Texts and a buffer have names.
fn system(calls: &[&str], startup: &Startup) -> (Vec<i64>, System) {
    let registers = ["eax", "rdi", "rsi", "rdx", "r10", "r8", "r9"];
    let call = |call: &&str| {
        let values = call.split(',').zip(registers);
        let lines = values.map(|(value, register)| format!(" mov {register}, {value}\n"));
        lines.collect::<String>() + " syscall\n"
    };
    let text = format!(
        " .target x86-64\n .global _start\n .data\nlog: .string \"log\"\nmaps: .string \"/proc/self/maps\"\nstatus: .string \"/proc/self/status\"\nline: .string \"/proc/self/cmdline\"\nhere: .string \".\"\ndeep: .string \"lamps/north\"\nfds: .short 0\n .bss\nbuffer: .skip 8192\n .text\n_start:\n{} mov eax, 60\n xor edi, edi\n syscall\n",
        calls.iter().map(call).collect::<String>()
    );
    let source = Source { name: "log.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    let image = link(&[object], &LinkOptions::default()).unwrap();
    let mut system = System::start(&image, startup).unwrap();
    system.close_input();
    let mut results = Vec::new();
    loop {
        let (_, call, stop) = system.step();
        results.extend(call.and_then(|call| call.report.result));
        match stop {
            Stop::Budget => {}
            Stop::Terminated(ending) => {
                assert_eq!(ending, Termination::Exited(0));
                let buffer = image.symbol("buffer").unwrap().address;
                system.machine.set_register(sotto_isa::x86::storage::RBX, buffer);
                return (results, system);
            }
            other => panic!("{other:?}"),
        }
    }
}

/// The start of the buffer, as text up to its first zero.
fn buffer(system: &mut System) -> String {
    let at = system.machine.register(sotto_isa::x86::storage::RBX);
    let mut bytes = vec![0; 8192];
    system.machine.memory_mut().read_bytes(at, &mut bytes).unwrap();
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8(bytes[..end].to_vec()).unwrap()
}

fn startup() -> Startup {
    Startup::with_arguments(["bin/lamp", "north"])
}

fn file(path: &str, kind: StartKind) -> StartFile {
    let path = [HOME, b"/", path.as_bytes()].concat();
    StartFile { path, kind, permissions: 0o755, modified: 0 }
}

#[test]
fn proc_tells_of_the_program() {
    let read = |name: &str| {
        let open = format!("2, {name}, 0, 0");
        let (results, mut system) = system(&[&open, "0, 3, buffer, 8000"], &startup());
        assert_eq!(results[0], 3);
        (results[1], buffer(&mut system))
    };
    let (count, line) = read("line");
    assert_eq!((count, line.as_str()), (15, "bin/lamp"));
    let (_, maps) = read("maps");
    assert!(maps.lines().any(|line| line.contains("r-xp") && line.ends_with("[code]")), "{maps}");
    assert!(maps.lines().any(|line| line.contains("rw-p") && line.ends_with("[stack]")), "{maps}");
    let (_, status) = read("status");
    assert!(status.starts_with("Name:\tlamp\nUmask:\t0022\n"), "{status}");
}

#[test]
fn a_file_is_mapped_with_what_it_holds_and_zeros_behind() {
    let mut given = startup();
    given.files.push(file("log", StartKind::File(b"02:40 fog".to_vec())));
    let map = "9, 0, 4096, 3, 2, 3, 0";
    let (results, mut system) = system(
        &[
            "2, log, 0, 0",
            map,
            "9, 0, 4096, 3, 1, 3, 0",
            "9, 0, 4096, 1, 2, 3, 100",
            "9, 0, 4096, 1, 2, 1, 0",
        ],
        &given,
    );
    let mut bytes = [1; 12];
    system.machine.memory_mut().read_bytes(results[1] as u64, &mut bytes).unwrap();
    assert_eq!(&bytes, b"02:40 fog\0\0\0");
    // Written through memory it would have to be written back; an offset is a number of pages; a pipe has no pages.
    assert_eq!(results[2..], [-19, -22, -13]);
    let noticed = system.take_noticed();
    let message = &noticed[0].call.notice.as_ref().unwrap().message;
    assert!(message.contains("written through memory"), "{message}");
}

#[test]
fn directories_are_read_in_the_order_of_names_and_in_pieces() {
    let mut given = startup();
    for name in ["north", "east", "lamps/north"] {
        given.files.push(file(name, StartKind::File(Vec::new())));
    }
    // The directory itself and its parent; then `east`, `lamps` and `north`: an entry of 19 bytes and a name, at multiples of 8.
    let (results, _) = system(
        &[
            "2, here, 0, 0",
            "217, 3, buffer, 10",
            "217, 3, buffer, 48",
            "217, 3, buffer, 4096",
            "217, 3, buffer, 4096",
        ],
        &given,
    );
    assert_eq!(results[1..], [-22, 48, 24 + 32 + 32, 0]);
}

#[test]
fn what_is_polled_is_ready_at_its_end_or_always() {
    let (results, mut system) = system(
        // Standard input, whose end is told unasked; then no descriptor at all, for a millisecond.
        &["7, fds, 1, 0", "7, 0, 0, 1", "7, 0, 2000, 0", "7, 16, 1, 0", "35, 16, 0"],
        &startup(),
    );
    assert_eq!(results, [1, 0, -22, -14, -14]);
    assert!(system.machine.time() >= 1_000_000);
}

#[test]
fn files_from_outside_are_found_with_their_directories_and_told_again() {
    let mut given = startup();
    given.files = vec![
        file("lamps", StartKind::Directory),
        file("lamps/north", StartKind::File(b"lit".to_vec())),
        file("way", StartKind::Link(b"lamps/north".to_vec())),
    ];
    let (results, mut system) =
        system(&["2, deep, 1, 0", "1, 3, log, 3", "0, 3, buffer, 9"], &given);
    assert_eq!(results, [3, 3, -9]);
    let found = system.files_in(HOME);
    let paths: Vec<_> = found.iter().map(|file| file.path.clone()).collect();
    assert_eq!(paths, given.files.iter().map(|file| file.path.clone()).collect::<Vec<_>>());
    assert_eq!(found[1].kind, StartKind::File(b"log".to_vec()));
    let snapshot = system.snapshot();
    system.restore(&snapshot);
    assert_eq!(system.files_in(HOME), found);
    // Something else in the place of a directory is refused.
    given.files.insert(0, file("lamps", StartKind::File(Vec::new())));
    let source = Source {
        name: "fog.s".into(),
        text: " .target x86-64\n .global _start\n_start: nop\n".into(),
    };
    let object = assemble(&source, &Options::default()).object.unwrap();
    let image = link(&[object], &LinkOptions::default()).unwrap();
    assert!(System::start(&image, &given).is_err());
}
