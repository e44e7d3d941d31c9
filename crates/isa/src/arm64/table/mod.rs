//! The rows, by kind of instruction. Each can be held against the manual's page.

mod atomics;
mod branches;
mod bitfields;
mod float;
mod integer;
mod memory;
mod rows;
mod structures;
mod system;
mod vector;
mod vector_elements;
mod vector_narrow;
mod vector_shifts;

use super::Form;

pub(super) const GROUPS: &[&[Form]] = &[
    integer::ROWS,
    bitfields::ROWS,
    memory::ROWS,
    atomics::ROWS,
    structures::ROWS,
    branches::ROWS,
    system::ROWS,
    float::ROWS,
    vector::ROWS,
    vector_elements::ROWS,
    vector_narrow::ROWS,
    vector_shifts::ROWS,
];
