//! The catalogue of problem types: what each one means, and what helps.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The address that types of problems are under.
const CATALOGUE: &str = "/api/v1/problems/";

/// A type of problem, as the catalogue tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProblemEntry {
    /// Its address: what stands as `type` in a problem document.
    #[serde(rename = "type")]
    #[schema(format = "uri-reference")]
    pub kind: String,
    /// The word that ends its address.
    pub code: String,
    /// What stands as `title`.
    pub title: String,
    /// The HTTP status that it comes with.
    pub status: u16,
    /// What it means.
    pub means: String,
    /// What helps; the document says it as `remedy` where it knows nothing closer.
    pub remedy: String,
}

macro_rules! catalogue {
    ($($name:ident $code:literal $status:literal $title:literal, $means:literal, $remedy:literal;)*) => {
        /// What kinds of problems there are.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum ProblemType {
            $(#[doc = $means] $name,)*
        }

        impl ProblemType {
            /// All of them, by status.
            pub const ALL: [Self; [$($status),*].len()] = [$(Self::$name),*];

            const fn told(self) -> (&'static str, u16, &'static str, &'static str, &'static str) {
                match self {
                    $(Self::$name => ($code, $status, $title, $means, $remedy),)*
                }
            }
        }
    };
}

catalogue! {
    Malformed "malformed" 400 "The request cannot be read",
        "The address, a header or the body is not of the form that the document of the interface asks for; `errors` says where.",
        "write it as /api/openapi.json says";
    NotFound "not-found" 404 "It is not there",
        "Nothing has this name or id, or there is no such address.",
        "look at the list of what is there: it was deleted, renamed or never made";
    Method "method" 405 "The address does not take this method",
        "The address is there and is asked by another method.",
        "take one of those that the header Allow names";
    Exists "exists" 409 "The name is taken",
        "Something of this kind has the name already.",
        "choose another name, or change what has it";
    Refused "refused" 409 "It cannot be done now",
        "What it is asked of is in a state that does not allow it; `detail` says which.",
        "change that first, then ask again";
    InUse "in-use" 409 "It is used",
        "Others would break without it; `detail` names them.",
        "let these do without it first";
    OutOfTurn "out-of-turn" 409 "The sequence is not next",
        "A producer's session left out a number: a request before this one did not come.",
        "send the one that is missing first";
    NotHeld "not-held" 409 "Another member reads it",
        "Partitions were shared out anew since this member read them.",
        "ask for this member's partitions again";
    NothingToMend "nothing-to-mend" 409 "There is nothing to do",
        "The finding that was to be mended is gone by now.",
        "run the preflight again";
    Changed "changed" 412 "It was changed by another",
        "Since it was read, someone else changed it; nothing was overwritten.",
        "read it again, and make the change in what it is now";
    PlanChanged "plan-changed" 412 "It would do something else by now",
        "What a plan was made of has changed since it was shown; nothing was done.",
        "ask with dry_run=true again, look at what it would do now, and confirm that";
    TooLarge "too-large" 413 "It is too large",
        "The body, or something in it, is larger than is taken at once.",
        "divide it; the limits stand in docs/http.md";
    MediaType "media-type" 415 "This form of the body is not taken",
        "The header Content-Type names a form that the address does not read.",
        "send one of the forms that /api/openapi.json names for it";
    Invalid "invalid" 422 "The request cannot be carried out as given",
        "It can be read, but a value in it does not fit; `errors` says which.",
        "change that value as the finding says";
    Settings "settings" 422 "A setting must be changed first",
        "The system that is reached is not set up for it; `statement` may be copied.",
        "change the setting, then ask again";
    Preflight "preflight" 422 "The preflight found something missing",
        "Checks were made before it begins, and one failed; `checks` has all of them with their remedies.",
        "do what the failed checks say, then ask again";
    SchemaText "schema-text" 422 "The schema's text cannot be taken",
        "The text of a schema cannot be read, or breaks a rule of its language; `errors` has the line and the column.",
        "mend the text at that place";
    Manifests "manifests" 422 "Nothing was done: manifests are wrong",
        "Something in the manifests cannot be taken; `errors` has file, line and column of each.",
        "mend the manifests, then apply them again";
    Unfit "unfit" 422 "A value cannot be stored",
        "A text holds what the database cannot keep, such as the character NUL.",
        "leave that character out";
    KeyReused "key-reused" 422 "The idempotency key was used before",
        "Another request was sent with this key or number.",
        "take a new key for a new request";
    Unconditional "unconditional" 428 "It has to be said which revision is meant",
        "What is changed may have been changed by another since it was read.",
        "send its ETag as If-Match, or * to change it as it is";
    Unconfirmed "unconfirmed" 428 "It has to be confirmed",
        "Something would be lost by it; `detail` says what.",
        "ask with dry_run=true, and send the tag of what that gives as confirm";
    Busy "busy" 429 "Too much is under way",
        "So much of this sort is asked for at once that more would slow all of it down.",
        "ask again after the seconds that Retry-After names";
    Failed "failed" 500 "It failed",
        "Gonvel could not carry the request out, for a reason that is not the request's.",
        "look at the server's log; what is stored is not changed";
    Defect "defect" 500 "A defect in Gonvel",
        "The request met a defect and was given up.",
        "please report it with what the server's log says";
    Unreachable "unreachable" 502 "The system does not answer",
        "A system outside of Gonvel is needed for this and could not be reached.",
        "test its connection";
    TryAgain "try-again" 503 "Gonvel's own database does not answer",
        "Nothing can be read or stored until it does; connectors go on when it is back.",
        "ask again after the seconds that Retry-After names; if it stays so, check that PostgreSQL is up";
    NoRoom "no-room" 507 "There is no room",
        "The server's disk is full, so what was sent could not be kept while it is read.",
        "make room on the server's disk, then send it again";
}

impl ProblemType {
    /// The word that ends its address.
    #[must_use]
    pub const fn code(self) -> &'static str {
        self.told().0
    }

    /// The HTTP status that it comes with.
    #[must_use]
    pub const fn status(self) -> u16 {
        self.told().1
    }

    /// What stands as `type` in a problem document.
    #[must_use]
    pub fn address(self) -> String {
        format!("{CATALOGUE}{}", self.code())
    }

    /// What the catalogue says of it.
    #[must_use]
    pub fn entry(self) -> ProblemEntry {
        let (code, status, title, means, remedy) = self.told();
        ProblemEntry {
            kind: self.address(),
            code: code.into(),
            title: title.into(),
            status,
            means: means.into(),
            remedy: remedy.into(),
        }
    }
}
