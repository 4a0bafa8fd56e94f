//! How many rejects may be.

/// How many rejects a load may have and still be kept.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Tolerance {
    /// This many.
    Records(u64),
    /// This many in a hundred records.
    Percent(f64),
}

impl Default for Tolerance {
    fn default() -> Tolerance {
        Tolerance::Records(0)
    }
}

impl Tolerance {
    /// Reads `50` or `0.5%`.
    ///
    /// # Errors
    /// A plain sentence that says what is wrong with it.
    pub fn parse(text: &str) -> Result<Tolerance, String> {
        let text = text.trim();
        let bad = || format!("\"{text}\" is neither a number of records nor a share such as 0.5%");
        match text.strip_suffix('%') {
            None => text
                .replace('_', "")
                .parse()
                .map(Tolerance::Records)
                .map_err(|_| bad()),
            Some(share) => match share.trim().parse::<f64>() {
                Ok(share) if (0.0..=100.0).contains(&share) => Ok(Tolerance::Percent(share)),
                _ => Err(bad()),
            },
        }
    }

    /// Whether `rejected` of `records` records is within it.
    pub fn allows(self, rejected: u64, records: u64) -> bool {
        match self {
            Tolerance::Records(most) => rejected <= most,
            Tolerance::Percent(share) => rejected as f64 * 100.0 <= share * records as f64,
        }
    }
}

impl std::fmt::Display for Tolerance {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Tolerance::Records(n) => write!(f, "{n}"),
            Tolerance::Percent(share) => write!(f, "{share}%"),
        }
    }
}
