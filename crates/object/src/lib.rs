//! Sections, symbols and relocations; the linker; ELF reading and writing
