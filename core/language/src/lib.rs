//! The query language: text to tokens to a syntax tree to a checked statement.
//!
//! Invariant: this crate knows the language and the graph's types and names, never how a query is
//! planned or run.

pub mod ast;
mod check;
mod class;
mod diagnostic;
mod format;
mod lexer;
mod nearest;
mod parse;
mod procedure;
mod scope;

pub use check::{Known, check_query};
pub use diagnostic::{Diagnostic, Diagnostics, Position, Severity, Span};
pub use format::format;
pub use lexer::{KEYWORDS, Token, TokenKind, has_name, tokenize};
pub use nearest::nearest;
pub use parse::called_otherwise;
pub use parse::{parse, parse_expression, parse_graph_type, parse_value_type, statement_ranges};
pub use procedure::{Argument, Gives, Procedure, Takes, YieldColumn};
pub use scope::{
    VariableKind, clause_variables, conditional_variables, expression_variables, pattern_variables,
    query_labels, query_variables, read_by_element, term_expressions, term_variables,
};
