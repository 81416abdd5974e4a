//! Versions of TLS.

/// A version of TLS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TlsVersion {
    /// RFC 5246.
    V1_2,
    /// RFC 8446.
    V1_3,
}

impl std::fmt::Display for TlsVersion {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::V1_2 => "1.2",
            Self::V1_3 => "1.3",
        })
    }
}
