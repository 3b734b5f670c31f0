//! Work that takes long.

/// Work for the processor, where waiting does no harm if it is long.
pub(crate) fn apart<T>(long: bool, work: impl FnOnce() -> T) -> T {
    if long { tokio::task::block_in_place(work) } else { work() }
}
