//! Procedures of one's own as WebAssembly: what a module says of itself, and running it over a part of a graph within
//! bounds of steps, memory and time. A module has no file, no network, no clock and no chance: what it reads is what the
//! call gives it (docs/procedures/procedure.wit).

mod host;
mod limits;
mod module;
mod signature;

pub use limits::ModuleLimits;
pub use module::{Module, ModuleError};
pub use signature::Signature;
