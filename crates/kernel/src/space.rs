//! Address spaces: memory that the tasks of a process share, with what the kernel knows of it.

use std::collections::BTreeMap;
use std::sync::Arc;

use sotto_machine::{Machine, PAGE_BYTES, Snapshot};
use sotto_object::Image;

use crate::load::Startup;
use crate::mapped_files::MappedFiles;
use crate::system::System;
use crate::task::TaskId;

/// The number of an address space. Each that is made has a new one.
#[derive(Copy, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct SpaceId(pub u32);

impl SpaceId {
    /// That of a process which has ended.
    pub(crate) const NONE: SpaceId = SpaceId(0);
    /// That of the process with which a run begins.
    pub const FIRST: SpaceId = SpaceId(1);
}

/// What is known of an address space beside its memory, which is in its machine.
#[derive(Clone)]
pub(crate) struct Space {
    pub id: SpaceId,
    /// The program in it, if it is not the one that the run began with.
    pub program: Option<Arc<Image>>,
    /// The address space that it was a copy of.
    pub origin: Option<Arc<SpaceOrigin>>,
    /// The files that are mapped.
    pub mapped: MappedFiles,
    /// Where the heap starts, and where it ends now.
    pub heap: (u64, u64),
    /// All of its memory together; pages take room only when they are touched.
    pub memory_limit: u64,
}

impl Space {
    /// The address space of a program that is started.
    pub fn new(id: SpaceId, image: &Image, startup: &Startup, mapped: MappedFiles) -> Space {
        let end = image.segments.iter().map(|segment| segment.end()).max().unwrap_or(0);
        let start = end.next_multiple_of(PAGE_BYTES);
        let (heap, memory_limit) = ((start, start), startup.memory_limit);
        Space { id, program: None, origin: None, mapped, heap, memory_limit }
    }
}

/// Where the memory of a process comes from that was made by fork(2).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SpaceOrigin {
    /// The address space that it is a copy of.
    pub space: SpaceId,
    /// The task that made it.
    pub task: TaskId,
    /// When it was made: so many instructions were completed.
    pub moment: u64,
    /// Where that came from.
    pub before: Option<Arc<SpaceOrigin>>,
}

/// An address space whose tasks do not run now: its machine has the memory, and registers that do not count.
pub(crate) struct ParkedSpace {
    pub machine: Box<Machine>,
    pub space: Space,
}

/// A parked address space at a moment.
#[derive(Clone)]
pub(crate) struct SpaceSnapshot {
    pub machine: Snapshot,
    pub space: Space,
}

impl ParkedSpace {
    pub fn snapshot(&mut self) -> SpaceSnapshot {
        SpaceSnapshot { machine: self.machine.snapshot(), space: self.space.clone() }
    }
}

impl System {
    /// Puts the parked address spaces back to their snapshots, and makes that which is shown the one that was; its machine is
    /// left to the caller.
    pub(crate) fn restore_spaces(
        &mut self,
        parked: &BTreeMap<SpaceId, SpaceSnapshot>,
        shown: &Space,
    ) {
        let machine_of = |system: &mut System, id: SpaceId| {
            let found = system.spaces.remove(&id);
            found.map_or_else(|| Box::new(system.machine.like()), |found| found.machine)
        };
        if self.space.id != shown.id {
            let mut machine = machine_of(self, shown.id);
            std::mem::swap(&mut self.machine, &mut *machine);
            self.spaces.insert(self.space.id, ParkedSpace { machine, space: self.space.clone() });
        }
        self.space.clone_from(shown);
        let mut spaces = BTreeMap::new();
        for (id, snapshot) in parked {
            let mut machine = machine_of(self, *id);
            machine.restore(&snapshot.machine);
            spaces.insert(*id, ParkedSpace { machine, space: snapshot.space.clone() });
        }
        self.spaces = spaces;
    }

    /// The address space that [`System::machine`] has: that of the task that is shown.
    pub fn shown_space(&self) -> SpaceId {
        self.space.id
    }

    /// The address space that the one which is shown was a copy of.
    pub fn shown_origin(&self) -> Option<&Arc<SpaceOrigin>> {
        self.space.origin.as_ref()
    }

    /// Whether there is an address space of a number.
    pub fn has_space(&self, id: SpaceId) -> bool {
        self.space.id == id || self.spaces.contains_key(&id)
    }

    /// The program in the address space that is shown; `None` if it is the one that the run began with.
    pub fn shown_program(&self) -> Option<&Arc<Image>> {
        self.space.program.as_ref()
    }

    /// Puts an address space into the machine.
    pub(crate) fn show_space(&mut self, id: SpaceId) {
        if self.space.id == id {
            return;
        }
        let Some(mut other) = self.spaces.remove(&id) else { return };
        self.flush_all_shared();
        self.machine.exchange_cpu(&mut other.machine);
        std::mem::swap(&mut self.machine, &mut *other.machine);
        std::mem::swap(&mut self.space, &mut other.space);
        self.spaces.insert(other.space.id, other);
        self.load_all_shared();
    }

    /// Makes a copy of the address space that is shown, which is parked; its number.
    pub(crate) fn copy_space(&mut self) -> SpaceId {
        self.flush_for_copy();
        let id = self.next_space();
        let origin = SpaceOrigin {
            space: self.space.id,
            task: self.running_task(),
            moment: self.executed,
            before: self.space.origin.clone(),
        };
        let space = Space { id, origin: Some(Arc::new(origin)), ..self.space.clone() };
        let machine = Box::new(self.machine.fork());
        self.spaces.insert(id, ParkedSpace { machine, space });
        id
    }

    pub(crate) fn next_space(&mut self) -> SpaceId {
        self.last_space += 1;
        SpaceId(self.last_space)
    }

    /// Drops parked address spaces that no process has.
    pub(crate) fn drop_unused_spaces(&mut self) {
        let own = self.process.space;
        let processes = &self.processes;
        let is_used =
            |id: &SpaceId| *id == own || processes.values().any(|process| process.space == *id);
        self.spaces.retain(|id, _| is_used(id));
    }

    /// Sets the addresses before which running stops, in every address space that has the program that the run began with.
    pub fn set_stops(&mut self, stops: &[u64]) {
        let of = |space: &Space| if space.program.is_none() { stops } else { &[][..] };
        self.machine.set_stops(of(&self.space));
        for ParkedSpace { machine, space } in self.spaces.values_mut() {
            machine.set_stops(of(space));
        }
    }

    /// Sets what is asked now and then whether a step in the middle of a long instruction is to be left.
    pub fn set_interrupt(&mut self, interrupted: fn() -> bool) {
        self.machine.set_interrupt(interrupted);
        self.spaces.values_mut().for_each(|other| other.machine.set_interrupt(interrupted));
    }
}
