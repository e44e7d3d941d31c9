//! The shared objects that a program loads: their symbols and lines are known once their code is mapped.

use std::sync::Arc;

use sotto_kernel::{MappedFile, SpaceId};
use sotto_object::{Image, read_shared};

use crate::Session;
use crate::views::text_cache::TextCache;

/// What a session knows of shared objects.
#[derive(Default)]
pub(crate) struct Modules {
    /// The files that were mapped when the session looked last.
    seen: Arc<Vec<MappedFile>>,
    /// The program alone, once there are shared objects beside it.
    program: Option<Box<Image>>,
}

/// What is known of the program in an address space that is not shown.
pub(crate) struct ParkedImage {
    image: Image,
    modules: Modules,
}

impl Session {
    /// Makes the image that of the program in the address space which is shown.
    fn show_image(&mut self) {
        let space = self.system.shown_space();
        if space == self.image_space {
            return;
        }
        let found =
            self.images.remove(&space).unwrap_or_else(|| match self.system.shown_program() {
                Some(program) => {
                    ParkedImage { image: (**program).clone(), modules: Modules::default() }
                }
                // A copy of the first program begins with what was loaded there.
                None => ParkedImage { image: self.first_image(), modules: Modules::default() },
            });
        let image = std::mem::replace(&mut self.image, found.image);
        let modules = std::mem::replace(&mut self.modules, found.modules);
        self.images.insert(self.image_space, ParkedImage { image, modules });
        self.image_space = space;
        self.texts = TextCache::default();
        let system = &self.system;
        self.images.retain(|space, _| *space == SpaceId::FIRST || system.has_space(*space));
    }

    /// The program that the run began with, without what it loaded.
    fn first_image(&self) -> Image {
        let (image, modules) = match self.images.get(&SpaceId::FIRST) {
            Some(first) => (&first.image, &first.modules),
            None => (&self.image, &self.modules),
        };
        modules.program.as_deref().unwrap_or(image).clone()
    }

    /// Reads the symbols and lines of shared objects that were loaded since the last time.
    pub fn read_modules(&mut self) {
        self.show_image();
        if self.system.has_mapped(&self.modules.seen) {
            return;
        }
        self.modules.seen = self.system.mapped_files();
        let files = self.modules.seen.clone();
        for file in files.iter().filter(|file| file.offset == 0) {
            let is_known = self.image.modules.iter().any(|known| known.start == file.start);
            if is_known || !self.is_executed(&files, file) {
                continue;
            }
            let bytes = self.system.mapped_bytes(file);
            let read = bytes.and_then(|bytes| read_shared(&bytes, file.start).ok());
            let Some(module) = read.filter(|read| read.position_independent) else { continue };
            self.modules.program.get_or_insert_with(|| Box::new(self.image.clone()));
            self.image.add_module(file.path.rsplit('/').next().unwrap_or_default(), module);
            self.texts = TextCache::default();
        }
    }

    /// Whether code of a file can be executed.
    fn is_executed(&self, files: &[MappedFile], file: &MappedFile) -> bool {
        let mut parts = files.iter().filter(|part| part.path == file.path);
        parts.any(|part| {
            let region = self.system.machine.memory().region_at(part.start);
            region.is_some_and(|region| region.permissions.execute)
        })
    }

    /// The program, without the shared objects that it loaded.
    pub(crate) fn program(&self) -> &Image {
        self.modules.program.as_deref().unwrap_or(&self.image)
    }
}
