//! Avro's single-object encoding ("Single-object encoding" in the specification): two marker bytes, the CRC-64-AVRO
//! fingerprint of the writer's schema in little-endian order, the data.

const MARKER: [u8; 2] = [0xc3, 0x01];
const HEADER: usize = 10;

/// Appends the ten leading bytes.
pub fn header(fingerprint: u64, out: &mut Vec<u8>) {
    out.extend_from_slice(&MARKER);
    out.extend_from_slice(&fingerprint.to_le_bytes());
}

/// Splits an encoded value into fingerprint and data; none if it does not begin with the marker.
#[must_use]
pub fn split(value: &[u8]) -> Option<(u64, &[u8])> {
    let (head, data) = value.split_at_checked(HEADER)?;
    let (marker, fingerprint) = head.split_at(2);
    (marker == MARKER).then(|| (u64::from_le_bytes(fingerprint.try_into().expect("eight bytes")), data))
}
