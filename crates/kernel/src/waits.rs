//! Who could end what a task waits for, and circles of tasks that wait for each other.

use crate::arguments::ArgumentKind;
use crate::calls::futex::FutexKey;
use crate::files::open::{FileId, OpenFlags, What};
use crate::files::sockets::State;
use crate::process::Process;
use crate::structures::Structure;
use crate::system::System;
use crate::table::{self, SyscallRow};
use crate::task::{Task, TaskId};

/// Why a task waits for another.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub enum Awaited {
    /// It waits for its child.
    Child,
    /// It reads a pipe or a socket that the other can write to.
    Writer,
    /// It writes to a pipe or a socket that the other can read.
    Reader,
    /// It wants a lock that the other has (futex(2), FUTEX_LOCK_PI).
    Owner,
}

/// How a call uses a file that it waits for.
#[derive(Copy, Clone, PartialEq, Eq)]
enum Use {
    Reads,
    Writes,
}

fn use_of(row: &SyscallRow) -> Option<Use> {
    row.arguments.iter().find_map(|(_, kind)| match kind {
        ArgumentKind::BytesOut | ArgumentKind::Out(Structure::Vector(_) | Structure::Message) => {
            Some(Use::Reads)
        }
        ArgumentKind::BytesIn(_) | ArgumentKind::In(Structure::Vector(_) | Structure::Message) => {
            Some(Use::Writes)
        }
        _ => None,
    })
}

impl System {
    /// Whether a process has something open in a way.
    fn holds(&self, process: &Process, is_it: impl Fn(FileId) -> bool) -> bool {
        process.ended.is_none()
            && process.descriptors.iter().flatten().any(|descriptor| is_it(descriptor.file))
    }

    /// The tasks of the processes that have something open.
    fn holders(&self, is_it: impl Fn(FileId) -> bool) -> Vec<TaskId> {
        let holding: Vec<_> =
            self.all_processes().filter(|process| self.holds(process, &is_it)).collect();
        let of = |task: &&Task| holding.iter().any(|process| process.id == task.process);
        self.scheduler.tasks.iter().filter(of).map(|task| task.id).collect()
    }

    /// The tasks that could end what a task waits for, as far as that can be told.
    fn awaited(&self, task: &Task) -> Option<(Awaited, Vec<TaskId>)> {
        task.wait?;
        let (report, _) = task.waits_in.as_ref()?;
        if let Some(futex) = task.futex.as_ref() {
            let owner = futex.is_lock.then(|| self.owner_of(&futex.key)).flatten()?;
            return Some((Awaited::Owner, vec![owner]));
        }
        let row = table::by_number(report.abi, report.number)?;
        if row.waits_for_child() {
            let children = |other: &&Task| {
                self.process(other.process).is_some_and(|process| process.parent == task.process)
            };
            let children = self.scheduler.tasks.iter().filter(children).map(|child| child.id);
            return Some((Awaited::Child, children.collect()));
        }
        let fd = report.first_descriptor()?;
        let process = self.process(task.process)?;
        let file = process.descriptors.get(fd as usize).copied().flatten()?.file;
        let (awaited, end) = match use_of(row)? {
            Use::Reads => (Awaited::Writer, OpenFlags::WRITE),
            Use::Writes => (Awaited::Reader, OpenFlags::READ),
        };
        let open = self.open_files.get(file)?;
        let holders = match &open.what {
            What::Pipe(id) => self.holders(|file| {
                let open = self.open_files.get(file);
                open.is_some_and(|it| it.what == What::Pipe(*id) && it.flags.contains(end))
            }),
            What::Socket(id) => {
                let State::Connected(peer) = self.sockets.get(*id)?.state else { return None };
                self.holders(|file| {
                    self.open_files.get(file).is_some_and(|it| it.what == What::Socket(peer))
                })
            }
            _ => return None,
        };
        Some((awaited, holders))
    }

    /// The task that owns a lock.
    fn owner_of(&self, key: &FutexKey) -> Option<TaskId> {
        /// The bits of a word that are the number of its owner. Source: futex(2), FUTEX_TID_MASK.
        const OWNER: u32 = 0x3fff_ffff;
        let FutexKey::Memory(space, address) = *key else { return None };
        let mut word = [0; 4];
        let machine = match space == self.space.id {
            true => &self.machine,
            false => &self.spaces.get(&space)?.machine,
        };
        machine.memory().read_bytes(address, &mut word).ok()?;
        let owner = TaskId(u32::from_le_bytes(word) & OWNER);
        self.tasks().find(|task| *task == owner)
    }

    /// A circle of tasks of which each waits for the next, and the last for the first, with why it does; one task alone if it waits
    /// for itself. Empty if there is none, or if it cannot be told.
    pub fn waiting_circle(&self) -> Vec<(TaskId, Awaited)> {
        let tasks = &self.scheduler.tasks;
        let awaited: Vec<_> = tasks.iter().map(|task| (task.id, self.awaited(task))).collect();
        let of = |id: TaskId| {
            awaited.iter().find(|(task, _)| *task == id).and_then(|(_, awaited)| awaited.as_ref())
        };
        let circles = tasks.iter().filter_map(|task| {
            // The shortest way from a task back to itself, breadth first.
            let mut ways = vec![vec![task.id]];
            let mut seen = Vec::new();
            while !ways.is_empty() {
                let mut longer = Vec::new();
                for way in ways {
                    let Some((_, others)) = way.last().and_then(|last| of(*last)) else { continue };
                    if others.contains(&task.id) {
                        return Some(way);
                    }
                    for other in others {
                        if !seen.contains(other) {
                            seen.push(*other);
                            longer.push([&way[..], &[*other]].concat());
                        }
                    }
                }
                ways = longer;
            }
            None
        });
        let shortest = circles.min_by_key(Vec::len).unwrap_or_default();
        shortest.into_iter().filter_map(|task| Some((task, of(task)?.0))).collect()
    }
}
