//! The ids of runs.

/// A run's id: twelve hexadecimal digits. It names a folder and a row of the ledger forever, so
/// it must be new, not secret: of a million runs two have the same with a chance of one in
/// five hundred.
pub fn run_id() -> String {
    format!("{:012x}", fastrand::u64(..1 << 48))
}
