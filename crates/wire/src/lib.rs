//! Sessions with PostgreSQL servers: how they are reached, encrypted, and found to be silent.

#[cfg(feature = "authority")]
pub mod authority;
mod heard;
mod stream;
mod tls;

pub use heard::{Heard, Listening, Owed};
pub use rustls::ClientConfig;
pub use stream::{KEEPALIVE, Wire, dial};
pub use tls::{NotOpened, Shown, Unusable, check_ca, client_config, open};
