//! Source text to object, with diagnostics
