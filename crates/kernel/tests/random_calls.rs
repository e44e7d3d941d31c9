//! Random system calls with random arguments: nothing panics, and the system stays one that can be kept and put back.

use rand::rngs::SmallRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use sotto_asm::{Options, Source, assemble};
use sotto_isa::Arch;
use sotto_kernel::table::SYSCALLS;
use sotto_kernel::{Startup, Stop, System};
use sotto_object::{Image, LinkOptions, link};

/// Calls of one seed; `SOTTO_SWEEP` says how many seeds.
const CALLS: usize = 400;
const SEEDS: u64 = 40;

fn image(arch: Arch) -> Image {
    let call = sotto_kernel::target(arch).syscall_instruction;
    let jump = if arch == Arch::Arm64 { "b" } else { "jmp" };
    let text = format!(
        " .target {arch}\n .global _start\n .data\nlog: .string \"log\"\n .skip 4000\n .bss\nroom: .skip 65536\n .text\n_start: {call}\n {jump} _start\n"
    );
    let source = Source { name: "fog.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    link(&[object], &LinkOptions::default()).unwrap()
}

fn argument(image: &Image, system: &System, rng: &mut SmallRng) -> u64 {
    let address = |name: &str| image.symbol(name).unwrap().address;
    let near = rng.random_range(0..64);
    match rng.random_range(0..14) {
        0 | 1 => address("log") + near / 32,
        2 | 3 => address("room") + 8 * near,
        4 => {
            let stack_pointer = system.machine.register(system.arch().stack_pointer());
            stack_pointer.wrapping_sub(4096 - near)
        }
        5 => rng.random_range(0..16),
        6 => near,
        7 => u64::MAX - near,
        8 => 1 << near,
        9 => -100i64 as u64,
        10 => *[0, 1000, 4096, 0o644, 0x22, 0o102, 0x7fff_f000, 1 << 47].choose(rng).unwrap(),
        11 => rng.random_range(0..100_000),
        12 => image.symbol("_start").unwrap().address,
        _ => rng.random(),
    }
}

/// Calls that open something of each kind, so that there are descriptors for the others.
fn openings(room: u64) -> [(&'static str, [u64; 4]); 9] {
    [
        ("socketpair", [1, 1, 0, room]),
        ("socketpair", [1, 2, 0, room]),
        ("socket", [1, 1, 0, 0]),
        ("socket", [2, 1, 0, 0]),
        ("socket", [2, 2, 0, 0]),
        ("epoll_create1", [0; 4]),
        ("eventfd2", [1, 0, 0, 0]),
        ("pipe2", [room, 0, 0, 0]),
        ("pidfd_open", [1000, 0, 0, 0]),
    ]
}

fn run(arch: Arch, seed: u64) {
    let mut rng = SmallRng::seed_from_u64(seed);
    let image = image(arch);
    let startup = Startup { memory_limit: 64 << 20, ..Startup::with_arguments(["fog"]) };
    let mut system = System::start(&image, &startup).unwrap();
    let room = image.symbol("room").unwrap().address;
    let convention = arch.convention();
    let mut openings = openings(room).into_iter();
    for _ in 0..CALLS {
        let opening = openings.next();
        let row = match opening {
            Some((name, _)) => sotto_kernel::table::by_name(name).unwrap(),
            None => SYSCALLS.choose(&mut rng).unwrap(),
        };
        let Some(number) = row.number(arch) else { continue };
        if row.exits() {
            continue;
        }
        // Structures have something in them.
        let words: Vec<u8> =
            (0..16).flat_map(|_| argument(&image, &system, &mut rng).to_le_bytes()).collect();
        let _ = system.machine.memory_mut().load(room + 8 * rng.random_range(0..64), &words);
        let mut state = system.machine.cpu_state();
        let set = |state: &mut sotto_machine::CpuState, storage: sotto_isa::Storage, value: u64| {
            state.registers[usize::from(storage.0)] = value & arch.address_width().mask();
        };
        set(&mut state, convention.syscall_number.storage().unwrap(), number);
        for (index, &storage) in convention.syscall_arguments.iter().enumerate() {
            let drawn = argument(&image, &system, &mut rng);
            let chosen = opening.and_then(|(_, values)| values.get(index).copied());
            set(&mut state, storage, chosen.unwrap_or(drawn));
        }
        set(&mut state, arch.pc(), image.entry);
        system.machine.set_cpu_state(&state);
        let snapshot = system.snapshot();
        let before = (system.step().2, system.machine.cpu_state(), system.executed());
        system.take_noticed();
        // From the same state the same happens.
        system.restore(&snapshot);
        let after = (system.step().2, system.machine.cpu_state(), system.executed());
        assert_eq!(before, after, "{} on {arch}, seed {seed}", row.name);
        match after.0 {
            Stop::NeedsInput => drop(system.give_input(b"02:40 fog\n")),
            Stop::Stuck | Stop::Terminated(_) | Stop::MemoryLimit => return,
            _ => {}
        }
    }
}

#[test]
fn random_calls_neither_panic_nor_depend_on_how_they_were_come_by() {
    let seeds = std::env::var("SOTTO_SWEEP").ok().and_then(|text| text.parse().ok());
    for seed in 0..seeds.unwrap_or(SEEDS) {
        for &arch in Arch::ALL {
            run(arch, seed);
        }
    }
}
