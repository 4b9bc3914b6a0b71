//! Extractors that refuse with problem documents.

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::StatusCode;
use axum::http::request::Parts;
use serde::de::DeserializeOwned;

use crate::problem::Problem;

pub struct Json<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Json<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        match axum::Json::<T>::from_request(request, state).await {
            Ok(axum::Json(value)) => Ok(Json(value)),
            Err(rejection) => Err(match &rejection {
                JsonRejection::MissingJsonContentType(_) => {
                    Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "the body must be JSON")
                        .hint("send the header content-type: application/json")
                }
                other if other.status() == StatusCode::PAYLOAD_TOO_LARGE => {
                    Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "the body is larger than the service takes")
                        .hint("load large data with a mapping instead of in a query")
                }
                other => Problem::bad_request(other.body_text()),
            }),
        }
    }
}

pub struct Path<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let result = axum::extract::Path::<T>::from_request_parts(parts, state).await;
        result.map(|p| Path(p.0)).map_err(|e: PathRejection| Problem::bad_request(e.body_text()))
    }
}

pub struct Query<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let result = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        result.map(|q| Query(q.0)).map_err(|e: QueryRejection| Problem::bad_request(e.body_text()))
    }
}
