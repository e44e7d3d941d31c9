//! What a program's sources declare as data.

use std::sync::Arc;

use sotto_object::{DatumKind, Image, ImageSymbol};

/// A labelled datum with a declared size.
pub(crate) struct Datum {
    pub start: u64,
    /// Address behind it.
    pub end: u64,
    pub name: Arc<str>,
    pub kind: DatumKind,
}

/// The labelled data of a program, by ascending address.
pub(crate) struct Declared(Vec<Datum>);

impl Declared {
    pub fn new(image: &Image) -> Declared {
        let of_symbol = |symbol: &ImageSymbol| {
            let datum = symbol.datum?;
            let bytes = u64::from(datum.element_bytes).checked_mul(datum.count)?;
            let (start, name) = (symbol.address, symbol.name.as_str().into());
            let end = start.checked_add(bytes).filter(|_| bytes > 0)?;
            Some(Datum { start, end, name, kind: datum.kind })
        };
        let mut data: Vec<Datum> = image.symbols.iter().filter_map(of_symbol).collect();
        data.sort_by_key(|datum| datum.start);
        Declared(data)
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The datum in which an address is.
    pub fn at(&self, address: u64) -> Option<&Datum> {
        let after = self.0.partition_point(|datum| datum.start <= address);
        self.0[..after].last().filter(|datum| address < datum.end)
    }

    /// The first datum behind an address.
    pub fn after(&self, address: u64) -> Option<&Datum> {
        self.0.get(self.0.partition_point(|datum| datum.start <= address))
    }
}
