//! Ctrl-C: noted, and asked about between slices of a run.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use nix::sys::signal::{SaFlags, SigAction, SigHandler, SigSet, Signal, sigaction};

static ASKED: AtomicBool = AtomicBool::new(false);
static KEYS: OnceLock<fn() -> bool> = OnceLock::new();

extern "C" fn note(_: i32) {
    ASKED.store(true, Ordering::Relaxed);
}

/// From now on Ctrl-C only notes that it was pressed; blocked reads return.
pub fn listen() {
    let action = SigAction::new(SigHandler::Handler(note), SaFlags::empty(), SigSet::empty());
    // SAFETY: the handler only stores to an atomic, which is async-signal-safe.
    let result = unsafe { sigaction(Signal::SIGINT, &action) };
    // Without a handler Ctrl-C ends us, which is what it does elsewhere.
    let _ = result;
}

/// Whether Ctrl-C was pressed since this was last asked.
pub fn take() -> bool {
    ASKED.swap(false, Ordering::Relaxed)
}

/// Whether Ctrl-C was pressed, or whoever reads the keys says so.
pub fn asked() -> bool {
    if let Some(keys) = KEYS.get()
        && keys()
    {
        ASKED.store(true, Ordering::Relaxed);
    }
    ASKED.load(Ordering::Relaxed)
}

/// From now on `keys` is asked too: on the full screen Ctrl-C is a key like others.
pub fn ask_also(keys: fn() -> bool) {
    // Whoever came first stays; there is one screen.
    let _ = KEYS.set(keys);
}
