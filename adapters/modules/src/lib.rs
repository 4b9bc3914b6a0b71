//! User procedures as WebAssembly: reading a module's signature, and running it over a subgraph within limits of
//! steps, memory and time. A module has no access to files, network, clock or randomness; it reads only the data of
//! its call (docs/procedures/procedure.wit).

mod host;
mod limits;
mod module;
mod signature;

pub use limits::ModuleLimits;
pub use module::{Module, ModuleError};
pub use signature::Signature;
