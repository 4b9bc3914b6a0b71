//! Forms in which tables are written.

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TableForm {
    Csv,
    Parquet,
    Arrow,
}

impl TableForm {
    pub fn suffix(self) -> &'static str {
        match self {
            TableForm::Csv => "csv",
            TableForm::Parquet => "parquet",
            TableForm::Arrow => "arrow",
        }
    }
}

/// Separates labels.
pub(super) const SEPARATOR: &str = ";";
