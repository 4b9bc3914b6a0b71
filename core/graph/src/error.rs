//! Errors of the graph layer: messages about data with the standard's status code (ISO/IEC 39075, clause 23).

use std::fmt;

/// The five-character status codes that data and graph-type errors carry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Code(pub &'static str);

impl Code {
    pub const SYNTAX: Code = Code("42001");
    pub const UNKNOWN_REFERENCE: Code = Code("42002");
    pub const DATA: Code = Code("22000");
    pub const NULL_NOT_ALLOWED: Code = Code("22004");
    pub const NUMBER_OUT_OF_RANGE: Code = Code("22003");
    pub const DIVISION_BY_ZERO: Code = Code("22012");
    pub const INVALID_ZONE: Code = Code("22009");
    pub const INVALID_TEXT: Code = Code("22018");
    pub const WRONG_TYPE: Code = Code("22G03");
    pub const NOT_COMPARABLE: Code = Code("22G04");
    pub const INVALID_DATE_TIME: Code = Code("22007");
    pub const DATE_TIME_OVERFLOW: Code = Code("22008");
    pub const DURATION_OVERFLOW: Code = Code("22015");
    /// One statement gives one property several values.
    pub const MULTIPLE_ASSIGNMENTS: Code = Code("22G0M");
    /// What a reference names has been deleted by the same statement.
    pub const REFERENT_DELETED: Code = Code("22G11");
    /// Another transaction committed first.
    pub const CONFLICT: Code = Code("40001");
    pub const DEPENDENT_EDGES: Code = Code("G1001");
    pub const GRAPH_TYPE_VIOLATION: Code = Code("G2000");
    pub const KEY_VIOLATION: Code = Code("G2000");
}

/// An error about values or elements. `hint` says the way out where there is one.
#[derive(Clone, Debug, PartialEq)]
pub struct GraphError {
    pub code: Code,
    pub message: String,
    pub hint: Option<String>,
}

impl GraphError {
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        GraphError { code, message: message.into(), hint: None }
    }

    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

impl fmt::Display for GraphError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.code.0, self.message)?;
        match &self.hint {
            Some(hint) => write!(f, " ({hint})"),
            None => Ok(()),
        }
    }
}

impl std::error::Error for GraphError {}

/// Asked now and then by what takes long; an error ends it.
pub(crate) type GoOn<'g> = &'g (dyn Fn() -> Result<(), GraphError> + Sync);
