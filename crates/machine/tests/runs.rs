//! Runs over many blocks: random programs of routines, loops, jumps through tables and code that writes over code
//! do the same stepped, run whole, run in pieces, watched and with stops.

use rand::rngs::SmallRng;
use rand::{Rng, SeedableRng};
use sotto_isa::{Arch, RegisterId, RegisterValue, Storage};
use sotto_machine::{
    Call, CpuState, Event, Machine, OnWrite, Permissions, RegionKind, Watched, Watcher,
};

const CODE: u64 = 0x40_0000;
const DATA: u64 = 0x50_0000;
const STACK: u64 = 0x60_0800;
/// Where the addresses of the routines stand.
const TABLE: u64 = DATA + 0x800;
const ROUTINES: usize = 6;
/// Instructions of a program that are looked at; most go on for ever.
const LENGTH: usize = 1500;

/// Machine code with places that are still to be known.
#[derive(Default)]
struct Code {
    bytes: Vec<u8>,
    /// Where distances of four bytes to routines stand, and to which.
    calls: Vec<(usize, usize)>,
    routines: Vec<usize>,
}

impl Code {
    fn put(&mut self, bytes: &[u8]) {
        self.bytes.extend(bytes);
    }

    fn random(rng: &mut SmallRng) -> Code {
        let mut code = Code::default();
        for _ in 0..ROUTINES {
            code.routines.push(code.bytes.len());
            for _ in 0..rng.random_range(1..9) {
                code.part(rng, 0);
            }
            match rng.random_range(0..4) {
                0 => code.go(0xe9, rng),
                _ => code.put(&[0xc3]),
            }
        }
        for (at, routine) in std::mem::take(&mut code.calls) {
            let distance = code.routines[routine] as i32 - (at as i32 + 4);
            code.bytes[at..at + 4].copy_from_slice(&distance.to_le_bytes());
        }
        code
    }

    /// A call of a routine, or a jump to it.
    fn go(&mut self, opcode: u8, rng: &mut SmallRng) {
        self.put(&[opcode]);
        self.calls.push((self.bytes.len(), rng.random_range(0..ROUTINES)));
        self.put(&[0; 4]);
    }

    /// Some instructions that do one thing.
    fn part(&mut self, rng: &mut SmallRng, depth: usize) {
        let number = rng.random::<u8>();
        match rng.random_range(0..18) {
            0 => self.put(&[0x01, 0xc8]),                      // add eax, ecx
            1 => self.put(&[0x11, 0xc2]),                      // adc edx, eax
            2 => self.put(&[0x48, 0x35, number, 1, 0, 0]),     // xor rax, imm32
            3 => self.put(&[0xd1, 0xe8 + number % 2 * 8]),     // shr or sar eax, 1
            4 => self.put(&[0xff, 0xc3]),                      // inc ebx
            5 => self.put(&[0x0f, 0xaf, 0xc2]),                // imul eax, edx
            6 => self.put(&[0x50, 0x5f]),                      // push rax; pop rdi
            7 => self.put(&[0x48, 0x89, 0x46, number & 0x38]), // mov [rsi + disp8], rax
            8 => self.put(&[0x48, 0x03, 0x46, number & 0x38]), // add rax, [rsi + disp8]
            9 => self.put(&[0xf2, 0x0f, 0x58, 0xc1]),          // addsd xmm0, xmm1
            10 => self.put(&[0x0f, 0x31]),                     // rdtsc
            11 => self.go(0xe8, rng),
            // and eax, 5 * 8; call [rbp + rax]: the upper half of RAX is clear then.
            12 => self.put(&[0x83, 0xe0, 0x28, 0xff, 0x54, 0x05, 0x00]),
            // mov bl, 7, of which the instruction before puts in another number.
            13 => self.put(&[0x88, 0x05, 1, 0, 0, 0, 0xb3, 7]),
            14 if depth < 3 => {
                // cmp or test, and a jump over a part.
                let compare: &[&[u8]] = &[&[0x39, 0xc8], &[0x85, 0xd2], &[0x3c, number], &[0x90]];
                self.put(compare[rng.random_range(0..compare.len())]);
                self.put(&[0x70 + number % 16, 0]);
                let after = self.bytes.len();
                self.part(rng, depth + 1);
                self.bytes[after - 1] = (self.bytes.len() - after) as u8;
            }
            15 if depth < 2 => {
                // mov ecx, a few; a part; dec ecx and jnz, or loop.
                self.put(&[0xb9, number % 6 + 1, 0, 0, 0]);
                let start = self.bytes.len();
                self.part(rng, depth + 1);
                let closing: &[u8] = if number < 128 { &[0xff, 0xc9, 0x75] } else { &[0xe2] };
                self.put(closing);
                let back = start as i64 - (self.bytes.len() as i64 + 1);
                self.put(&[back as u8]);
            }
            16 => self.put(&[0x8b, 0x84, 0x0e, 0, 0x40, 0, 0]), // mov eax, [rsi + rcx + 0x4000]: refused
            _ => self.put(&[0x8d, 0x54, 0x08, number]),         // lea edx, [rax + rcx + disp8]
        }
    }

    fn machine(&self) -> Machine {
        let mut machine = Machine::new(Arch::X86_64);
        let all = Permissions { read: true, write: true, execute: true };
        let memory = machine.memory_mut();
        memory.map(RegionKind::Code, CODE, self.bytes.len() as u64, all).unwrap();
        memory.map(RegionKind::Data, DATA, 0x1000, all).unwrap();
        memory.map(RegionKind::Stack, STACK - 0x800, 0x1000, all).unwrap();
        memory.load(CODE, &self.bytes).unwrap();
        for (number, routine) in self.routines.iter().enumerate() {
            let address = (CODE + *routine as u64).to_le_bytes();
            memory.load(TABLE + 8 * number as u64, &address).unwrap();
        }
        for slot in (0..0x1000).step_by(8) {
            // Who returns too often starts again.
            memory.load(STACK - 0x800 + slot, &CODE.to_le_bytes()).unwrap();
        }
        machine.set_register(Arch::X86_64.pc(), CODE);
        machine.set_register(Storage(4), STACK);
        machine.set_register(Storage(5), TABLE);
        machine.set_register(Storage(6), DATA);
        machine.set_bank_register(
            RegisterId::vector(1),
            RegisterValue::from(u128::from(1.5f64.to_bits())),
        );
        machine
    }
}

/// Who looks on and does not stop.
fn watcher() -> Watcher {
    let mut watched = Watched::default();
    watched.add_register(Storage(0));
    Watcher::new(watched, OnWrite::Note)
}

/// Everything that tells one moment from another.
fn moment(machine: &Machine) -> (CpuState, Vec<Call>) {
    (machine.cpu_state(), machine.calls().to_vec())
}

/// The moments of a program, one before each instruction and one after the last; and what ended it, if anything did.
fn moments(code: &Code) -> (Vec<(CpuState, Vec<Call>)>, Option<Event>) {
    let mut machine = code.machine();
    let mut all = vec![moment(&machine)];
    while all.len() <= LENGTH {
        if let Some(event) = machine.step().event {
            return (all, Some(event));
        }
        all.push(moment(&machine));
    }
    (all, None)
}

#[test]
fn whatever_way_a_program_is_run_it_goes_through_the_same_moments() {
    let (mut ended, mut long) = (0, 0);
    for seed in 0..400 {
        let rng = &mut SmallRng::seed_from_u64(seed);
        let code = Code::random(rng);
        let (all, end) = moments(&code);
        let steps = all.len() - 1;
        ended += usize::from(end.is_some());
        long += usize::from(steps > 500);

        for watched in [false, true] {
            for longest in [LENGTH, 90, 7] {
                let mut machine = code.machine();
                let mut done = 0;
                while done < steps {
                    let most = rng.random_range(1..=longest).min(steps - done);
                    let run = match watched {
                        true => machine.run_watched(most as u64, &mut watcher()),
                        false => machine.run(most as u64),
                    };
                    assert_eq!(run.executed, most as u64, "{seed} after {done}: {run:?}");
                    done += most;
                    assert_eq!(moment(&machine), all[done], "{seed} after {done}");
                }
                if let Some(end) = end {
                    let run = machine.run(10);
                    assert_eq!((run.executed, run.event), (0, end), "{seed}");
                }
            }
        }

        // Stops at places where the program comes by.
        let places: Vec<u64> =
            (0..3).map(|_| all[rng.random_range(0..=steps)].0.registers[16]).collect();
        let mut machine = code.machine();
        machine.set_stops(&places);
        let mut done = 0;
        loop {
            let run = machine.run((steps - done) as u64);
            let next = (done + 1..=steps).find(|at| places.contains(&all[*at].0.registers[16]));
            done += run.executed as usize;
            assert_eq!(moment(&machine), all[done], "{seed} with stops after {done}");
            match next {
                // At the last moment there is nothing left to run.
                Some(next) if next < steps => {
                    assert_eq!((done, run.event), (next, Event::Stop), "{seed}");
                }
                _ => break assert_eq!(done, steps, "{seed}"),
            }
        }
    }
    assert!(ended > 40 && long > 100, "{ended} ended, {long} were long");
}
