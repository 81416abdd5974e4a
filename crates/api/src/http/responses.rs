//! Responses that calls share, declared once.

use std::collections::BTreeMap;

use utoipa::{
    IntoResponses,
    openapi::{ContentBuilder, Ref, RefOr, Response, ResponseBuilder, path::Operation},
};

/// A response with a problem, to be named by the calls that have it.
macro_rules! problems {
    ($($(#[$doc:meta])* $name:ident = $status:literal, $description:literal;)+) => {
        $(
            $(#[$doc])*
            pub struct $name;

            impl IntoResponses for $name {
                fn responses() -> BTreeMap<String, RefOr<Response>> {
                    BTreeMap::from([($status.to_owned(), RefOr::T(problem($description)))])
                }
            }
        )+
    };
}

problems! {
    /// What is asked for does not exist.
    NotFound = "404", "Not found";
    /// What is asked for does not go with what there is.
    Conflict = "409", "Conflict";
    /// A limit of the caller is reached.
    TooMany = "429", "Too many";
    /// What was sent to sign in is wrong.
    Wrong = "401", "Wrong name, password or secret";
}

/// What every call can respond with, apart from its own responses.
const PROBLEMS: [(&str, &str); 8] = [
    ("400", "Unreadable request"),
    ("401", "Not signed in"),
    ("403", "Role not sufficient, or the request came from another page"),
    ("413", "Body too large"),
    ("415", "Body not declared as JSON"),
    ("421", "Unknown host name"),
    ("422", "Invalid input"),
    ("500", "Internal error"),
];

/// Declares them for an operation; `is_open` for one that nobody has to be signed in for.
pub fn declare(operation: &mut Operation, is_open: bool) {
    let responses = &mut operation.responses.responses;
    for (status, explanation) in PROBLEMS {
        let is_about_body = matches!(status, "413" | "415");
        if is_about_body && operation.request_body.is_none() || is_open && status == "401" {
            continue;
        }
        responses.entry(status.to_owned()).or_insert_with(|| RefOr::T(problem(explanation)));
    }
    responses.entry("503".to_owned()).or_insert_with(|| RefOr::T(problem("Database unavailable")));
    for (status, response) in responses {
        if let RefOr::T(response) = response
            && response.description.is_empty()
        {
            response.description = if status == "201" { "Created" } else { "Done" }.to_owned();
        }
    }
}

fn problem(explanation: &str) -> Response {
    let content = ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
    ResponseBuilder::new().description(explanation).content("application/problem+json", content).build()
}
