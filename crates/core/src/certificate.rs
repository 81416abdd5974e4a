//! What a client certificate is known by. A *match* is one thing that it says, written in one way: its subject
//! (RFC 4514), one of its other names (RFC 5280, 4.2.1.6), or its fingerprint. An identity lists matches; a certificate
//! that an authority has signed and that bears one of them is that identity's.

use std::{fmt::Write, net::IpAddr};

use sha2::{Digest, Sha256};
use time::OffsetDateTime;
use x509_parser::{certificate::X509Certificate, extensions::GeneralName, x509::X509Name};

/// The longest match, bytes.
const LENGTH: usize = 1_024;

/// What is quoted of one that is longer, characters.
const QUOTED: usize = 64;

/// Short names of the attribute types that a subject is written with, and their object identifiers (RFC 4514, 3; RFC 4519).
const TYPES: [(&str, &str); 11] = [
    ("CN", "2.5.4.3"),
    ("SERIALNUMBER", "2.5.4.5"),
    ("C", "2.5.4.6"),
    ("L", "2.5.4.7"),
    ("ST", "2.5.4.8"),
    ("STREET", "2.5.4.9"),
    ("O", "2.5.4.10"),
    ("OU", "2.5.4.11"),
    ("UID", "0.9.2342.19200300.100.1.1"),
    ("DC", "0.9.2342.19200300.100.1.25"),
    ("EMAIL", "1.2.840.113549.1.9.1"),
];

/// What a client certificate says, as far as it matters here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClientCertificate {
    /// All its matches: first the fingerprint, then its other names, then its subject.
    pub matches: Vec<String>,
    /// When it ends.
    pub ends: OffsetDateTime,
}

impl ClientCertificate {
    /// Reads a certificate in DER form; `None` if it is none.
    pub fn read(der: &[u8]) -> Option<Self> {
        let (_, parsed) = x509_parser::parse_x509_certificate(der).ok()?;
        let ends = OffsetDateTime::from_unix_timestamp(parsed.validity().not_after.timestamp()).ok()?;
        let mut matches = vec![format!("sha256:{}", hex::encode(Sha256::digest(der)))];
        matches.extend(other_names(&parsed));
        matches.extend(subject(parsed.subject()));
        Some(Self { matches, ends })
    }
}

fn other_names(certificate: &X509Certificate<'_>) -> Vec<String> {
    let Ok(Some(names)) = certificate.subject_alternative_name() else { return Vec::new() };
    let read = |name: &GeneralName<'_>| match name {
        GeneralName::DNSName(name) => Some(format!("dns:{}", name.to_ascii_lowercase())),
        GeneralName::RFC822Name(name) => Some(format!("email:{name}")),
        GeneralName::URI(name) => Some(format!("uri:{name}")),
        GeneralName::IPAddress(bytes) => Some(format!("ip:{}", address(bytes)?)),
        _ => None,
    };
    names.value.general_names.iter().filter_map(read).collect()
}

fn address(bytes: &[u8]) -> Option<IpAddr> {
    match bytes.len() {
        4 => <[u8; 4]>::try_from(bytes).ok().map(IpAddr::from),
        16 => <[u8; 16]>::try_from(bytes).ok().map(IpAddr::from),
        _ => None,
    }
}

/// The subject as RFC 4514 writes it, from the last part to the first. `None` if it is empty, or holds something that
/// is no text: such a certificate has other matches.
fn subject(name: &X509Name<'_>) -> Option<String> {
    let mut parts = Vec::new();
    for part in name.iter_rdn() {
        let mut pairs = Vec::new();
        for pair in part.iter() {
            let oid = pair.attr_type().to_id_string();
            let short = TYPES.iter().find(|(_, known)| *known == oid).map_or(oid.as_str(), |(short, _)| short);
            pairs.push(format!("{short}={}", escaped(pair.as_str().ok()?)));
        }
        parts.push(pairs.join("+"));
    }
    parts.reverse();
    (!parts.is_empty()).then(|| format!("subject:{}", parts.join(",")))
}

/// A value with what has a meaning in a subject escaped (RFC 4514, 2.4), so that no value looks like two.
fn escaped(value: &str) -> String {
    let mut text = String::with_capacity(value.len());
    let last = value.chars().count().saturating_sub(1);
    for (place, c) in value.chars().enumerate() {
        match c {
            '"' | '+' | ',' | ';' | '<' | '>' | '\\' | '=' => text.extend(['\\', c]),
            '#' if place == 0 => text.extend(['\\', c]),
            ' ' if place == 0 || place == last => text.extend(['\\', c]),
            c if c.is_control() => {
                let mut bytes = [0; 4];
                for byte in c.encode_utf8(&mut bytes).bytes() {
                    let _infallible = write!(text, "\\{byte:02x}");
                }
            }
            c => text.push(c),
        }
    }
    text
}

/// Why a text is not a certificate match.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{text}\" is not a valid certificate match: {why}")]
pub struct MatchError {
    /// The text, or its beginning.
    pub text: String,
    /// Why.
    pub why: MatchFault,
}

/// What is wrong with a text that is to be a certificate match.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MatchFault {
    /// It is too long.
    #[error("the limit is {LENGTH} bytes")]
    TooLong,
    /// It is of no known kind.
    #[error(
        "use subject:, dns:, email:, uri:, ip: or sha256:; `moorfall cert show FILE` prints the matches of a certificate"
    )]
    Kind,
    /// Nothing is behind its colon, or something that can't be printed.
    #[error("there must be printable text after the colon")]
    Empty,
    /// The subject is not written as RFC 4514 has it.
    #[error("a subject is written like CN=kettle-weir,O=Harrowmere Rivers Trust, the name first")]
    Subject,
    /// A name with a wildcard.
    #[error("wildcards are not allowed")]
    Wildcard,
    /// Files of many identities divide their matches by semicolons.
    #[error("semicolons are not allowed; use another match")]
    Semicolon,
    /// Not an address.
    #[error("not an IP address")]
    Address,
    /// Not a fingerprint.
    #[error("a SHA-256 fingerprint has 64 hexadecimal digits")]
    Fingerprint,
}

/// A match as people write it, in the one way that certificates are looked up by.
pub fn read_match(text: &str) -> Result<String, MatchError> {
    read_as_one(text).map_err(|why| {
        let quoted = if why == MatchFault::TooLong { QUOTED } else { LENGTH };
        MatchError { text: text.chars().take(quoted).collect(), why }
    })
}

fn read_as_one(text: &str) -> Result<String, MatchFault> {
    if text.len() > LENGTH {
        return Err(MatchFault::TooLong);
    }
    let (kind, value) = text.split_once(':').ok_or(MatchFault::Kind)?;
    // A space at the end of a subject may be escaped.
    let kind = kind.trim().to_ascii_lowercase();
    let value = if kind == "subject" { value.trim_start() } else { value.trim() };
    if value.is_empty() || value.chars().any(char::is_control) {
        return Err(MatchFault::Empty);
    }
    match kind.as_str() {
        "subject" => read_subject(value).map(|subject| format!("subject:{subject}")).ok_or(MatchFault::Subject),
        "dns" if value.contains('*') => Err(MatchFault::Wildcard),
        "dns" => Ok(format!("dns:{}", value.to_ascii_lowercase())),
        "email" | "uri" if value.contains(';') => Err(MatchFault::Semicolon),
        "email" | "uri" => Ok(format!("{kind}:{value}")),
        "ip" => value.parse::<IpAddr>().map(|address| format!("ip:{address}")).map_err(|_| MatchFault::Address),
        "sha256" => {
            let digits: String = value.chars().filter(|c| *c != ':').collect::<String>().to_ascii_lowercase();
            let is_one = digits.len() == 64 && digits.chars().all(|c| c.is_ascii_hexdigit());
            if is_one { Ok(format!("sha256:{digits}")) } else { Err(MatchFault::Fingerprint) }
        }
        _ => Err(MatchFault::Kind),
    }
}

/// A subject in its one form: no spaces about the separators, types in capitals, values escaped in the same way.
fn read_subject(text: &str) -> Option<String> {
    let mut subject = String::new();
    let mut rest = text;
    loop {
        let (kind, after) = rest.split_once('=')?;
        let kind = kind.trim().to_ascii_uppercase();
        let known = TYPES.iter().any(|(short, _)| *short == kind);
        if !known && (kind.is_empty() || !kind.chars().all(|c| c.is_ascii_digit() || c == '.')) {
            return None;
        }
        let (value, separator, after) = read_value(after)?;
        let _infallible = write!(subject, "{kind}={}", escaped(&value));
        let Some(separator) = separator else { return Some(subject) };
        subject.push(separator);
        rest = after;
    }
}

/// The value at the start of a text without its escapes, the separator after it if there is one, and what follows.
fn read_value(text: &str) -> Option<(String, Option<char>, &str)> {
    let mut bytes = Vec::new();
    // Where spaces at the end begin that were not escaped.
    let mut kept = 0;
    let mut characters = text.char_indices();
    let mut end = (None, "");
    while let Some((place, c)) = characters.next() {
        match c {
            ',' | '+' => {
                end = (Some(c), &text[place + 1..]);
                break;
            }
            '\\' => {
                let (_, first) = characters.next()?;
                if let Some(high) = first.to_digit(16) {
                    let low = characters.next()?.1.to_digit(16)?;
                    bytes.push(u8::try_from(high * 16 + low).ok()?);
                } else {
                    bytes.extend(first.encode_utf8(&mut [0; 4]).bytes());
                }
                kept = bytes.len();
            }
            ' ' if bytes.is_empty() => {}
            ';' | '"' | '<' | '>' | '=' => return None,
            c => {
                bytes.extend(c.encode_utf8(&mut [0; 4]).bytes());
                if c != ' ' {
                    kept = bytes.len();
                }
            }
        }
    }
    bytes.truncate(kept);
    let value = String::from_utf8(bytes).ok().filter(|value| !value.is_empty())?;
    Some((value, end.0, end.1))
}

#[cfg(test)]
mod tests {
    use rcgen::{CertificateParams, DnType, KeyPair, SanType, string::Ia5String};

    use super::*;

    fn certificate(fill: impl FnOnce(&mut CertificateParams)) -> ClientCertificate {
        let mut params = CertificateParams::default();
        params.distinguished_name = rcgen::DistinguishedName::new();
        fill(&mut params);
        let made = params.self_signed(&KeyPair::generate().unwrap()).unwrap();
        ClientCertificate::read(made.der()).unwrap()
    }

    #[test]
    fn a_certificate_is_known_by_all_that_it_says() {
        let known = certificate(|params| {
            params.distinguished_name.push(DnType::OrganizationName, "Harrowmere Rivers Trust");
            params.distinguished_name.push(DnType::CommonName, "kettle-weir");
            params.subject_alt_names = vec![
                SanType::DnsName(Ia5String::try_from("Kettle-Weir.harrowmere.example").unwrap()),
                SanType::Rfc822Name(Ia5String::try_from("weir@harrowmere.example").unwrap()),
                SanType::URI(Ia5String::try_from("urn:harrowmere:kettle-weir").unwrap()),
                SanType::IpAddress("192.0.2.7".parse().unwrap()),
            ];
        });
        assert!(known.matches[0].starts_with("sha256:") && known.matches[0].len() == 7 + 64, "{known:?}");
        assert_eq!(
            known.matches[1..],
            [
                "dns:kettle-weir.harrowmere.example",
                "email:weir@harrowmere.example",
                "uri:urn:harrowmere:kettle-weir",
                "ip:192.0.2.7",
                "subject:CN=kettle-weir,O=Harrowmere Rivers Trust",
            ]
        );
        for one in &known.matches {
            assert_eq!(read_match(one).as_ref(), Ok(one), "what is printed can be given back");
        }
    }

    #[test]
    fn a_value_can_t_look_like_two() {
        let cunning = certificate(|params| {
            params.distinguished_name.push(DnType::CommonName, "kettle-weir,O=Harrowmere Rivers Trust");
        });
        let honest = certificate(|params| {
            params.distinguished_name.push(DnType::OrganizationName, "Harrowmere Rivers Trust");
            params.distinguished_name.push(DnType::CommonName, "kettle-weir");
        });
        assert_eq!(cunning.matches[1], r"subject:CN=kettle-weir\,O\=Harrowmere Rivers Trust");
        assert_ne!(cunning.matches[1], honest.matches[1]);
        assert_eq!(read_match(&cunning.matches[1]).as_ref(), Ok(&cunning.matches[1]));
    }

    #[test]
    fn matches_are_read_in_the_ways_that_people_write_them() {
        let subject = Ok("subject:CN=kettle-weir,O=Harrowmere Rivers Trust".to_owned());
        assert_eq!(read_match("subject:cn = kettle-weir, o = Harrowmere Rivers Trust "), subject);
        assert_eq!(read_match(r"subject:CN=kettle\2dweir,O=Harrowmere Rivers Trust"), subject);
        assert_eq!(read_match(r"subject:CN=a\,b\ "), Ok(r"subject:CN=a\,b\ ".to_owned()));
        assert_eq!(read_match("dns:Kettle-Weir.Example"), Ok("dns:kettle-weir.example".to_owned()));
        assert_eq!(read_match("ip:2001:DB8::1"), Ok("ip:2001:db8::1".to_owned()));
        let colons = ["AB"; 32].join(":");
        assert_eq!(read_match(&format!("sha256:{colons}")), Ok(format!("sha256:{}", "ab".repeat(32))));
    }

    #[test]
    fn what_is_no_match_is_refused() {
        let wrong = [
            "",
            "kettle-weir",
            "dns:",
            "dns:*.example",
            "ip:here",
            "sha256:abc",
            "name:x",
            "subject:kettle-weir",
            "subject:CN=",
            "uri:a;b",
            "subject:CN=a;O=b",
            "subject:X=y",
            "subject:CN=a,",
            r"subject:CN=a\",
            "uri:a\nb",
        ];
        for text in wrong {
            assert!(read_match(text).is_err(), "{text}");
        }
    }
}
