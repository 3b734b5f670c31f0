//! The name that was perhaps meant by one that is not known.

/// The one of these names that is most like another, if any is.
#[must_use]
pub fn nearest<'n>(name: &str, names: impl IntoIterator<Item = &'n str>) -> Option<&'n str> {
    let lower = name.to_lowercase();
    let like = |other: &&str| strsim::jaro_winkler(&lower, &other.to_lowercase());
    names
        .into_iter()
        .map(|other| (like(&other), other))
        .filter(|(likeness, _)| *likeness > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, other)| other)
}

/// The same as the end of a sentence; nothing if none is like it.
#[must_use]
pub fn perhaps<'n>(name: &str, names: impl IntoIterator<Item = &'n str>) -> String {
    nearest(name, names).map(|other| format!(", perhaps {other} is meant")).unwrap_or_default()
}
