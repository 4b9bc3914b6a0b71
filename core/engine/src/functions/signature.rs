//! The functions by name with their number of arguments, and what their arguments are taken for.

use std::sync::Arc;

use graphodrome_graph::{Code, Decimal, GraphError, Value};

macro_rules! functions {
    ($($variant:ident: [$($name:literal),+] $least:literal..=$most:expr;)+) => {
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub(crate) enum Function { $($variant),+ }

        /// Name, function, least and most arguments.
        pub(crate) const FUNCTIONS: &[(&str, Function, usize, usize)] =
            &[$($(($name, Function::$variant, $least, $most),)+)+];
    };
}

functions! {
    CharLength: ["CHAR_LENGTH", "CHARACTER_LENGTH"] 1..=1;
    Substring: ["SUBSTRING"] 2..=3;
    Position: ["POSITION"] 2..=2;
    Replace: ["REPLACE"] 3..=3;
    Round: ["ROUND"] 1..=2;
    Extract: ["EXTRACT"] 2..=2;
    Upper: ["UPPER"] 1..=1;
    Lower: ["LOWER"] 1..=1;
    Trim: ["TRIM", "BTRIM"] 1..=2;
    Ltrim: ["LTRIM"] 1..=2;
    Rtrim: ["RTRIM"] 1..=2;
    Left: ["LEFT"] 2..=2;
    Right: ["RIGHT"] 2..=2;
    Abs: ["ABS"] 1..=1;
    Mod: ["MOD"] 2..=2;
    Floor: ["FLOOR"] 1..=1;
    Ceil: ["CEIL", "CEILING"] 1..=1;
    Sqrt: ["SQRT"] 1..=1;
    Exp: ["EXP"] 1..=1;
    Ln: ["LN"] 1..=1;
    Log: ["LOG"] 2..=2;
    Log10: ["LOG10"] 1..=1;
    Power: ["POWER"] 2..=2;
    Sin: ["SIN"] 1..=1;
    Cos: ["COS"] 1..=1;
    Tan: ["TAN"] 1..=1;
    Cot: ["COT"] 1..=1;
    Sinh: ["SINH"] 1..=1;
    Cosh: ["COSH"] 1..=1;
    Tanh: ["TANH"] 1..=1;
    Asin: ["ASIN"] 1..=1;
    Acos: ["ACOS"] 1..=1;
    Atan: ["ATAN"] 1..=1;
    Degrees: ["DEGREES"] 1..=1;
    Radians: ["RADIANS"] 1..=1;
    ByteLength: ["BYTE_LENGTH", "OCTET_LENGTH"] 1..=1;
    Normalize: ["NORMALIZE"] 1..=2;
    Cardinality: ["CARDINALITY", "SIZE"] 1..=1;
    ElementId: ["ELEMENT_ID"] 1..=1;
    PathLength: ["PATH_LENGTH"] 1..=1;
    Elements: ["ELEMENTS"] 1..=1;
    Coalesce: ["COALESCE"] 1..=64;
    Nullif: ["NULLIF"] 2..=2;
    Labels: ["LABELS"] 1..=1;
    Properties: ["PROPERTIES"] 1..=1;
    Nodes: ["NODES"] 1..=1;
    Edges: ["EDGES"] 1..=1;
    Degree: ["DEGREE"] 1..=1;
    InDegree: ["IN_DEGREE"] 1..=1;
    OutDegree: ["OUT_DEGREE"] 1..=1;
    AllDifferent: ["ALL_DIFFERENT"] 2..=64;
    Same: ["SAME"] 2..=64;
    CurrentDate: ["CURRENT_DATE"] 0..=0;
    CurrentTime: ["CURRENT_TIME"] 0..=0;
    CurrentTimestamp: ["CURRENT_TIMESTAMP"] 0..=0;
    LocalTimestamp: ["LOCAL_TIMESTAMP"] 0..=0;
    Date: ["DATE"] 0..=1;
    LocalTime: ["LOCAL_TIME"] 0..=1;
    ZonedTime: ["ZONED_TIME"] 0..=1;
    LocalDateTime: ["LOCAL_DATETIME"] 0..=2;
    ZonedDateTime: ["ZONED_DATETIME"] 0..=2;
    DurationOf: ["DURATION"] 1..=1;
    DurationBetween: ["DURATION_BETWEEN"] 2..=3;
    Split: ["SPLIT"] 2..=2;
    ToDate: ["TO_DATE"] 2..=2;
    ToDateTime: ["TO_DATETIME"] 2..=2;
}

pub(super) fn wrong(function: Function, value: &Value, wanted: &str) -> GraphError {
    let name = FUNCTIONS.iter().find(|f| f.1 == function).map_or("", |f| f.0);
    GraphError::new(
        Code::WRONG_TYPE,
        format!("{name} takes {wanted}, found {} {}", value.type_name(), value.excerpt()),
    )
}

pub(super) fn domain(message: &str) -> GraphError {
    GraphError::new(Code::DATA, message)
}

pub(super) fn text(function: Function, value: &Value) -> Result<&Arc<str>, GraphError> {
    match value {
        Value::Text(t) => Ok(t),
        other => Err(wrong(function, other, "STRING")),
    }
}

pub(super) fn number(function: Function, value: &Value) -> Result<f64, GraphError> {
    value.as_f64().ok_or_else(|| wrong(function, value, "a number"))
}

/// A number that is kept exactly.
pub(super) fn exact(value: &Value) -> Option<Decimal> {
    match value {
        Value::Int(i) => Some((*i).into()),
        Value::Decimal(d) => Some(*d),
        _ => None,
    }
}
