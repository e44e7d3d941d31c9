//! Programs of the benches: assembled and linked, and run to their end.

use sotto_asm::{Options, Source, assemble};
use sotto_kernel::{Startup, Stop, System, Termination};
use sotto_object::{Image, LinkOptions, link};

/// The linked program of a source.
pub fn image(text: &str) -> Image {
    let source = Source { name: "bench.s".into(), text: text.into() };
    let object = assemble(&source, &Options::default()).object.expect("the bench assembles");
    link(&[object], &LinkOptions::default()).expect("the bench links")
}

/// Runs a program to its end; its status and the number of instructions.
pub fn emulate(image: &Image) -> (i32, u64) {
    let startup = Startup::with_arguments(["bench"]);
    let mut system = System::start(image, &startup).expect("the arguments are short");
    loop {
        if let Stop::Terminated(ending) = system.run(u64::MAX).stop {
            let Termination::Exited(status) = ending else { panic!("{ending:?}") };
            return (status, system.executed());
        }
    }
}
