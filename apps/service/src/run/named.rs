//! Graphs as statements name them.

use std::sync::Arc;

use graphodrome_language::Diagnostic;
use graphodrome_language::ast::Name;
use graphodrome_store::GraphHandle;

use super::QueryRequest;
use crate::problem::Problem;
use crate::state::App;

/// A problem that points at a name of the request's text.
pub(super) fn at(request: &QueryRequest, name: &Name, mut error: Diagnostic) -> Problem {
    error.span = name.span;
    Problem::from_diagnostic(error, &request.text)
}

pub(super) fn graph_named(
    app: &App, name: Option<&Name>, request: &QueryRequest,
) -> Result<Arc<GraphHandle>, Problem> {
    match (name, &request.graph) {
        (Some(name), _) => app.graph(&name.text),
        (None, Some(name)) => app.graph(name),
        (None, None) => Err(Problem::bad_request("the statement does not say which graph it is about")
            .hint("name it with -g, in the field graph, or with USE g before it")),
    }
}
