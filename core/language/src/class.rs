//! Static types of expressions: enough to refuse a comparison of a text with a number before execution.

use graphodrome_graph::{Value, ValueKind, ValueType};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Class {
    Unknown,
    Bool,
    Number,
    Text,
    Bytes,
    Date,
    LocalTime,
    ZonedTime,
    LocalDateTime,
    ZonedDateTime,
    Duration,
    List,
    Record,
    Node,
    Edge,
    Path,
}

use Class::*;

/// Functions whose arguments and results are always of one kind: name, arguments, result.
const SIGNATURES: &[(&str, &[Class], Class)] = &[
    ("CHAR_LENGTH", &[Text], Number),
    ("CHARACTER_LENGTH", &[Text], Number),
    ("BYTE_LENGTH", &[Bytes], Number),
    ("OCTET_LENGTH", &[Bytes], Number),
    ("SUBSTRING", &[Text, Number, Number], Text),
    ("POSITION", &[Text, Text], Number),
    ("REPLACE", &[Text, Text, Text], Text),
    ("ROUND", &[Number, Number], Number),
    ("EXTRACT", &[Unknown, Text], Number),
    ("UPPER", &[Text], Text),
    ("LOWER", &[Text], Text),
    ("LTRIM", &[Unknown, Unknown], Unknown),
    ("LEFT", &[Unknown, Number], Unknown),
    ("RIGHT", &[Unknown, Number], Unknown),
    ("NORMALIZE", &[Text, Text], Text),
    ("ABS", &[Number], Number),
    ("MOD", &[Number, Number], Number),
    ("FLOOR", &[Number], Number),
    ("CEIL", &[Number], Number),
    ("CEILING", &[Number], Number),
    ("SQRT", &[Number], Number),
    ("EXP", &[Number], Number),
    ("LN", &[Number], Number),
    ("LOG", &[Number, Number], Number),
    ("LOG10", &[Number], Number),
    ("POWER", &[Number, Number], Number),
    ("SIN", &[Number], Number),
    ("COS", &[Number], Number),
    ("TAN", &[Number], Number),
    ("COT", &[Number], Number),
    ("SINH", &[Number], Number),
    ("COSH", &[Number], Number),
    ("TANH", &[Number], Number),
    ("ASIN", &[Number], Number),
    ("ACOS", &[Number], Number),
    ("ATAN", &[Number], Number),
    ("DEGREES", &[Number], Number),
    ("RADIANS", &[Number], Number),
    ("CARDINALITY", &[Unknown], Number),
    ("SIZE", &[Unknown], Number),
    ("PATH_LENGTH", &[Path], Number),
    ("ELEMENTS", &[Path], List),
    ("NODES", &[Path], List),
    ("EDGES", &[Path], List),
    ("ELEMENT_ID", &[Unknown], Text),
    ("LABELS", &[Unknown], List),
    ("PROPERTIES", &[Unknown], Record),
    ("DEGREE", &[Node], Number),
    ("IN_DEGREE", &[Node], Number),
    ("OUT_DEGREE", &[Node], Number),
    ("SPLIT", &[Text, Text], List),
    ("TO_DATE", &[Text, Text], Date),
    ("TO_DATETIME", &[Text, Text], LocalDateTime),
    ("CURRENT_DATE", &[], Date),
    ("CURRENT_TIME", &[], ZonedTime),
    ("CURRENT_TIMESTAMP", &[], ZonedDateTime),
    ("LOCAL_TIMESTAMP", &[], LocalDateTime),
    ("DURATION_BETWEEN", &[Unknown, Unknown, Unknown], Duration),
    ("ALL_DIFFERENT", &[], Bool),
    ("SAME", &[], Bool),
    ("PROPERTY_EXISTS", &[], Bool),
];

/// What a function takes and yields, where that is always the same.
pub(crate) fn signature(function: &str) -> Option<(&'static [Class], Class)> {
    SIGNATURES.iter().find(|(name, ..)| *name == function).map(|(_, arguments, result)| (*arguments, *result))
}

impl Class {
    pub fn of_value(value: &Value) -> Class {
        ValueKind::of(value).map_or(Unknown, Class::of_kind)
    }

    pub fn of_type(value_type: &ValueType) -> Class {
        match value_type {
            // Numbers of several kinds are of one class.
            ValueType::OneOf(types) => types.iter().map(Class::of_type).reduce(Class::or).unwrap_or(Unknown),
            one => ValueKind::of_type(one).map_or(Unknown, Class::of_kind),
        }
    }

    fn of_kind(kind: ValueKind) -> Class {
        match kind {
            ValueKind::Bool => Bool,
            ValueKind::Int | ValueKind::Float | ValueKind::Decimal => Number,
            ValueKind::Text => Text,
            ValueKind::Bytes => Bytes,
            ValueKind::Date => Date,
            ValueKind::LocalTime => LocalTime,
            ValueKind::ZonedTime => ZonedTime,
            ValueKind::LocalDateTime => LocalDateTime,
            ValueKind::ZonedDateTime => ZonedDateTime,
            ValueKind::Duration => Duration,
            ValueKind::List => List,
            ValueKind::Record => Record,
            ValueKind::Node => Node,
            ValueKind::Edge => Edge,
            ValueKind::Path => Path,
        }
    }

    /// One of the two: known only where they are the same.
    pub fn or(self, other: Class) -> Class {
        if self == other { self } else { Unknown }
    }

    /// Whether values of the two can be compared.
    pub fn comparable(self, other: Class) -> bool {
        self == other || self == Unknown || other == Unknown
    }

    /// Whether a value of this class may stand where `wanted` is.
    pub fn fits(self, wanted: Class) -> bool {
        self.comparable(wanted)
    }

    /// With its article, for a message.
    pub fn describe(self) -> &'static str {
        match self {
            Unknown => "a value",
            Bool => "a BOOL",
            Number => "a number",
            Text => "a STRING",
            Bytes => "BYTES",
            Date => "a DATE",
            LocalTime => "a LOCAL TIME",
            ZonedTime => "a ZONED TIME",
            LocalDateTime => "a LOCAL DATETIME",
            ZonedDateTime => "a ZONED DATETIME",
            Duration => "a DURATION",
            List => "a LIST",
            Record => "a RECORD",
            Node => "a NODE",
            Edge => "an EDGE",
            Path => "a PATH",
        }
    }

    pub fn is_temporal(self) -> bool {
        matches!(self, Date | LocalTime | ZonedTime | LocalDateTime | ZonedDateTime)
    }
}
