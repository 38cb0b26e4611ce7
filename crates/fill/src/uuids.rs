//! UUIDs made of numbers, and read back to them.

use crate::random::{Permutation, Random};

/// The bits that mark a UUID of a version (RFC 9562).
pub(crate) fn marked(mut bytes: [u8; 16], version: u8) -> [u8; 16] {
    bytes[6] = bytes[6] & 0x0f | version << 4;
    bytes[8] = bytes[8] & 0x3f | 0x80;
    bytes
}

/// A UUID of version 7: milliseconds at the front, one more a row, then chance (RFC 9562).
pub(crate) fn uuid_of_row(start: i64, row: u64, random: &mut Random) -> [u8; 16] {
    let millis = (start / 1000) as u64 + row;
    let bits = u128::from(millis & 0xffff_ffff_ffff) << 80 | u128::from(random.next() & 0xffff) << 64 | u128::from(random.next());
    marked(bits.to_be_bytes(), 7)
}

/// The UUID of version 7 of a number, the same for a key each time.
pub(crate) fn uuid_in_order(start: i64, number: u64, key: u64) -> [u8; 16] {
    uuid_of_row(start, number, &mut Random::at(key, number))
}

/// The number that a UUID was made from by [`uuid_in_order`], if it was.
pub(crate) fn number_in_order(start: i64, bytes: [u8; 16]) -> Option<u64> {
    ((u128::from_be_bytes(bytes) >> 80) as u64).checked_sub((start / 1000) as u64)
}

/// Bits of a UUID of version 4 in which a number is hidden.
const HIDDEN: u64 = 1 << 62;

/// The UUID of version 4 of a number: the number itself is inside, encrypted, so that no two are alike.
pub(crate) fn uuid_of_number(number: u64, key: u64) -> [u8; 16] {
    let hidden = Permutation::new(HIDDEN, key).at(number & (HIDDEN - 1));
    marked((u128::from(Random::at(key, number).next()) << 64 | u128::from(hidden)).to_be_bytes(), 4)
}

/// The number that a UUID was made from by [`uuid_of_number`], if it was.
pub(crate) fn number_of_uuid(bytes: [u8; 16], key: u64) -> u64 {
    Permutation::new(HIDDEN, key).from(u128::from_be_bytes(bytes) as u64 & (HIDDEN - 1))
}

/// Where UUIDs in order begin: the first of January 2020, in microseconds.
pub(crate) const UUIDS_SINCE: i64 = 1_577_836_800_000_000;
