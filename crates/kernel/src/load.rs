//! Loading: segments into memory, and the initial stack.
//!
//! Sources: psABI x86-64, 3.4.1 "Initial Stack and Register State"; psABI i386, 2.3.1; the arm64
//! stack is laid out the same way; getauxval(3) for the vector's types.

use std::sync::Arc;

use sotto_machine::{Machine, MapError, PAGE_BYTES, Permissions, RegionKind, SplitMix64};
use sotto_object::{Image, ProgramHeaders, Segment, read_shared};

use crate::files::inode::InodeId;
use crate::files::shown::ShownFolder;
use crate::files::tree::{ROOT, Tree};
use crate::files::walk::{LastLink, walk};
use crate::mapped_files::{MappedFile, MappedFiles};
use crate::target::target;

/// The usual limit on a stack.
pub(crate) const STACK_BYTES: u64 = 8 << 20;
/// Arguments and environment together may take a quarter of the stack, as the kernel has it.
pub(crate) const MAX_STRING_BYTES: usize = (STACK_BYTES / 4) as usize;

/// What a program starts with.
#[derive(Clone, Debug)]
pub struct Startup {
    /// Arguments, any bytes but zeros; the first is the program's name.
    pub arguments: Vec<Vec<u8>>,
    /// Environment, as `NAME=value`, any bytes but zeros.
    pub environment: Vec<Vec<u8>>,
    /// Decides the random bytes that the program is given.
    pub seed: u64,
    /// Bytes of memory that the program may map, and touch.
    pub memory_limit: u64,
    /// The time of day at which it starts, in seconds since 1970.
    pub clock: u64,
    /// Decides when another task is run, and which; without it they are run in rotation.
    pub interleaving: Option<u64>,
    /// Folders that it finds beside the files that are always there.
    pub folders: Vec<ShownFolder>,
}

/// The limit on a program's memory unless another is asked for.
pub const DEFAULT_MEMORY_LIMIT: u64 = 4 << 30;

/// The time of day at which a program starts unless another is asked for: 2026-01-01 00:00 UTC, in seconds since 1970.
pub const DEFAULT_CLOCK: u64 = 1_767_225_600;

impl Startup {
    /// A start with these arguments and the small default environment.
    pub fn with_arguments<A: AsRef<[u8]>>(arguments: impl IntoIterator<Item = A>) -> Startup {
        let arguments = arguments.into_iter().map(|argument| argument.as_ref().to_vec()).collect();
        let environment = vec![b"LANG=C.UTF-8".to_vec(), b"TERM=dumb".to_vec()];
        let memory_limit = DEFAULT_MEMORY_LIMIT;
        Startup {
            arguments,
            environment,
            seed: 1,
            memory_limit,
            clock: DEFAULT_CLOCK,
            interleaving: None,
            folders: Vec::new(),
        }
    }
}

/// Why a program cannot be started.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum StartError {
    /// Arguments and environment are larger than a quarter of the stack.
    #[error("the arguments are too long for the stack")]
    ArgumentsTooLong,
    /// A folder for the program has no place, since that is taken by a file or by another folder.
    #[error("there is no place for a folder at {0}")]
    NoPlace(String),
    /// The program is dynamically linked, and the program that loads it is not among the files.
    #[error(
        "the program is dynamically linked, and {0}, which loads it with its libraries, is not among the files that it is shown"
    )]
    NoInterpreter(String),
    /// The program that loads it cannot be loaded itself.
    #[error("{0}, which loads the program with its libraries, cannot be loaded: {1}")]
    Interpreter(String, String),
    /// The program's segments do not fit into the memory that it may have.
    #[error("the program is larger than the memory that it may have, {limit} bytes")]
    TooLarge {
        /// Bytes that it may have.
        limit: u64,
    },
    /// A segment, or the stack, cannot be mapped beside the others.
    #[error("the segment at {address:#x} cannot be loaded: {source}")]
    Segment {
        /// Its first address.
        address: u64,
        /// What is wrong with it.
        source: MapError,
    },
}

// Auxiliary vector types. Source: getauxval(3), <elf.h>.
const AT_NULL: u64 = 0;
const AT_PHDR: u64 = 3;
const AT_PHENT: u64 = 4;
const AT_PHNUM: u64 = 5;
const AT_PAGESZ: u64 = 6;
const AT_BASE: u64 = 7;
const AT_FLAGS: u64 = 8;
const AT_ENTRY: u64 = 9;
const AT_UID: u64 = 11;
const AT_EUID: u64 = 12;
const AT_GID: u64 = 13;
const AT_EGID: u64 = 14;
const AT_PLATFORM: u64 = 15;
const AT_HWCAP: u64 = 16;
const AT_CLKTCK: u64 = 17;
const AT_SECURE: u64 = 23;
const AT_RANDOM: u64 = 25;
const AT_HWCAP2: u64 = 26;
const AT_EXECFN: u64 = 31;

/// The name of a type of the auxiliary vector, of those that the kernel lays down. Source: getauxval(3).
pub fn auxiliary_name(number: u64) -> Option<&'static str> {
    Some(match number {
        AT_NULL => "AT_NULL",
        AT_PHDR => "AT_PHDR",
        AT_PHENT => "AT_PHENT",
        AT_PHNUM => "AT_PHNUM",
        AT_PAGESZ => "AT_PAGESZ",
        AT_BASE => "AT_BASE",
        AT_FLAGS => "AT_FLAGS",
        AT_ENTRY => "AT_ENTRY",
        AT_UID => "AT_UID",
        AT_EUID => "AT_EUID",
        AT_GID => "AT_GID",
        AT_EGID => "AT_EGID",
        AT_PLATFORM => "AT_PLATFORM",
        AT_HWCAP => "AT_HWCAP",
        AT_CLKTCK => "AT_CLKTCK",
        AT_SECURE => "AT_SECURE",
        AT_RANDOM => "AT_RANDOM",
        AT_HWCAP2 => "AT_HWCAP2",
        AT_EXECFN => "AT_EXECFN",
        _ => return None,
    })
}

/// The program that loads another with its libraries, and itself.
pub(crate) struct Interpreter {
    /// Where its first page is.
    pub base: u64,
    pub image: Image,
    pub path: Vec<u8>,
    pub inode: InodeId,
}

impl Interpreter {
    /// The interpreter that an image names.
    ///
    /// # Errors
    ///
    /// If it is not in the tree, or is no program for the same machine.
    pub fn find(image: &Image, tree: &mut Tree) -> Result<Option<Interpreter>, StartError> {
        let Some(path) = image.interpreter.clone() else { return Ok(None) };
        let shown = path.escape_ascii().to_string();
        let found = walk(tree, ROOT, &path, LastLink::Followed).ok().and_then(|found| found.inode);
        let bytes = found.and_then(|id| tree.file_bytes(id));
        let (Some(inode), Some(bytes)) = (found, bytes) else {
            return Err(StartError::NoInterpreter(shown));
        };
        let failed = |reason: String| StartError::Interpreter(shown.clone(), reason);
        // Where it goes depends on its size, so that it is read twice.
        let image_at = |base| {
            let read = read_shared(&bytes, base).map_err(|error| failed(error.to_string()))?;
            let is_same = read.arch == image.arch;
            is_same.then_some(read).ok_or_else(|| failed("it is for another machine".into()))
        };
        let end = image_at(0)?.segments.last().map_or(0, Segment::end);
        let base = target(image.arch).mapping_top - end.next_multiple_of(PAGE_BYTES);
        Ok(Some(Interpreter { base, image: image_at(base)?, path, inode }))
    }

    /// The memory that its file is behind.
    pub fn mapped_files(&self) -> MappedFiles {
        let mut mapped = MappedFiles::default();
        let path: Arc<str> = self.path.escape_ascii().to_string().into();
        for segment in self.image.segments.iter().filter(|segment| !segment.data.is_empty()) {
            let start = segment.address & !(PAGE_BYTES - 1);
            let end = (segment.address + segment.data.len() as u64).next_multiple_of(PAGE_BYTES);
            let offset = segment.file_offset & !(PAGE_BYTES - 1);
            let (path, inode) = (path.clone(), self.inode);
            mapped.add(MappedFile {
                start,
                end,
                offset,
                path,
                inode,
                is_shared: false,
                may_write: true,
                is_anonymous: false,
            });
        }
        mapped
    }
}

/// Maps an image, its interpreter and the stack, and sets the program counter and the stack pointer. The path by which it is
/// executed is told to it.
///
/// # Errors
///
/// If a segment cannot be mapped beside the others and the stack.
pub(crate) fn load(
    image: &Image,
    interpreter: Option<&Interpreter>,
    startup: &Startup,
    executable: &[u8],
) -> Result<Machine, StartError> {
    let mut machine = Machine::new(image.arch);
    machine.memory_mut().set_limit(startup.memory_limit);
    let too_large = || StartError::TooLarge { limit: startup.memory_limit };
    let first = interpreter.map_or(image, |interpreter| &interpreter.image);
    let segments = interpreter.map_or(&[][..], |interpreter| &interpreter.image.segments);
    for segment in image.segments.iter().chain(segments) {
        if segment.memory_size == 0 {
            continue;
        }
        let kind = match (segment.exec, segment.write) {
            (true, _) => RegionKind::Code,
            (false, true) => RegionKind::Data,
            (false, false) => RegionKind::Constants,
        };
        let permissions = Permissions { read: true, write: segment.write, execute: segment.exec };
        machine
            .memory_mut()
            .map(kind, segment.address, segment.memory_size, permissions)
            .map_err(|source| StartError::Segment { address: segment.address, source })?;
        // What lies around the contents in the file is on the same pages.
        let around = &segment.surroundings;
        let before = segment.address - around.before.len() as u64;
        let after = segment.address + segment.data.len() as u64;
        for (at, bytes) in
            [(before, &around.before), (segment.address, &segment.data), (after, &around.after)]
        {
            machine.memory_mut().load(at, bytes).map_err(|_| too_large())?;
        }
    }
    let execute = image.executable_stack;
    let permissions = Permissions { read: true, write: true, execute };
    let stack = target(image.arch).stack_top - STACK_BYTES;
    machine
        .memory_mut()
        .map(RegionKind::Stack, stack, STACK_BYTES, permissions)
        .map_err(|source| StartError::Segment { address: stack, source })?;
    machine.seed_random(startup.seed);
    let stack_pointer =
        build_stack(&mut machine, image, interpreter, startup, executable).ok_or_else(too_large)?;
    machine.set_register(image.arch.stack_pointer(), stack_pointer);
    machine.set_register(image.arch.pc(), first.entry);
    Ok(machine)
}

/// Lays out strings, auxiliary vector, environment and arguments; returns the stack pointer.
/// `None` if it does not fit into the memory that the program may have.
fn build_stack(
    machine: &mut Machine,
    image: &Image,
    interpreter: Option<&Interpreter>,
    startup: &Startup,
    executable: &[u8],
) -> Option<u64> {
    let width = image.arch.address_bytes();
    // The last word is zero.
    let mut at = target(image.arch).stack_top - width;
    let mut push = |machine: &mut Machine, bytes: &[u8]| {
        at -= bytes.len() as u64;
        machine.memory_mut().load(at, bytes).is_ok().then_some(at)
    };
    let with_zero = |text: &[u8]| [text, &[0]].concat();
    let exec_name = push(machine, &with_zero(executable))?;
    let mut addresses = |strings: &[Vec<u8>]| {
        let pushed = strings.iter().rev().map(|text| push(machine, &with_zero(text)));
        let mut addresses = pushed.collect::<Option<Vec<u64>>>()?;
        addresses.reverse();
        Some(addresses)
    };
    let environment = addresses(&startup.environment)?;
    let arguments = addresses(&startup.arguments)?;
    let platform = push(machine, &with_zero(target(image.arch).platform.as_bytes()))?;
    let random = push(machine, &random_bytes(startup.seed))?;

    // A program whose headers are not loaded is told that they are nowhere.
    let headers = image.headers.unwrap_or(ProgramHeaders { address: 0, entry_bytes: 0, count: 0 });
    let auxiliary = [
        (AT_PHDR, headers.address),
        (AT_PHENT, headers.entry_bytes),
        (AT_PHNUM, headers.count),
        (AT_PAGESZ, 4096),
        (AT_BASE, interpreter.map_or(0, |interpreter| interpreter.base)),
        (AT_FLAGS, 0),
        (AT_HWCAP, target(image.arch).features),
        (AT_CLKTCK, 100),
        (AT_ENTRY, image.entry),
        (AT_UID, 1000),
        (AT_EUID, 1000),
        (AT_GID, 1000),
        (AT_EGID, 1000),
        (AT_SECURE, 0),
        (AT_RANDOM, random),
        (AT_HWCAP2, 0),
        (AT_EXECFN, exec_name),
        (AT_PLATFORM, platform),
        (AT_NULL, 0),
    ];
    let mut words = vec![arguments.len() as u64];
    words.extend(arguments);
    words.push(0);
    words.extend(environment);
    words.push(0);
    words.extend(auxiliary.iter().flat_map(|(kind, value)| [*kind, *value]));
    let stack_pointer = (at - width * words.len() as u64) & !15;
    let word = |word: &u64| word.to_le_bytes()[..width as usize].to_vec();
    let bytes: Vec<u8> = words.iter().flat_map(word).collect();
    machine.memory_mut().load(stack_pointer, &bytes).ok()?;
    Some(stack_pointer)
}

/// Sixteen bytes that a seed decides.
fn random_bytes(seed: u64) -> [u8; 16] {
    let mut generator = SplitMix64(seed);
    let mut bytes = [0; 16];
    for chunk in bytes.chunks_mut(8) {
        chunk.copy_from_slice(&generator.next_number().to_le_bytes());
    }
    bytes
}
