//! A request that makes something, and is to make it once however often it comes.

/// A request that makes something, by the key that its client gave it and by what it asks for.
#[derive(Debug, Clone)]
pub struct Once {
    pub(crate) key: String,
    pub(crate) digest: Vec<u8>,
}
