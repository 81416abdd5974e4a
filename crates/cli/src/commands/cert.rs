//! `moorfall cert`: a small authority of one's own, and what it signs.

use std::{
    fs::OpenOptions,
    io::Write,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

use clap::{Args, Subcommand};
use moorfall_core::certificate::ClientCertificate;
use pkcs8::{EncryptedPrivateKeyInfoRef, LineEnding, PrivateKeyInfoRef, SecretDocument};
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
};
use time::{Duration, OffsetDateTime};
use zeroize::Zeroizing;

use crate::{
    arguments::Misread,
    messaging::read_password,
    output::{self, Done, Failure, printable},
};

/// The environment's place for the pass phrase of the authority's key.
const PASSPHRASE: &str = "MOORFALL_PASSPHRASE";

/// Clocks of devices are often behind; what is made now is good since an hour ago.
const CLOCKS: Duration = Duration::hours(1);

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Create the authority that signs the others; its key is protected by a passphrase
    Authority {
        /// Name of the authority
        #[arg(long, value_name = "NAME", default_value = "Moorfall authority")]
        name: String,
        /// Days that it is valid
        #[arg(long, value_name = "DAYS", default_value_t = 3_650, value_parser = days)]
        days: i64,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        secret: Secret,
        /// Leave the key without a passphrase, protected only by file permissions
        #[arg(long, conflicts_with = "passphrase_file")]
        no_passphrase: bool,
    },
    /// Create a certificate for a listener
    Server {
        /// Host name or address that clients use; can be repeated
        #[arg(long = "host", value_name = "HOST", required = true)]
        hosts: Vec<String>,
        /// Name of the files
        #[arg(long, value_name = "NAME", default_value = "server", value_parser = file_name)]
        name: String,
        /// Days that it is valid
        #[arg(long, value_name = "DAYS", default_value_t = 397, value_parser = days)]
        days: i64,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        secret: Secret,
    },
    /// Create a certificate for a client: a device, a program, a person
    Device {
        /// Name: the subject of the certificate, and the name of the files
        #[arg(value_parser = file_name)]
        name: String,
        /// Host name or address, as a subject alternative name; can be repeated
        #[arg(long = "host", value_name = "HOST")]
        hosts: Vec<String>,
        /// Days that it is valid
        #[arg(long, value_name = "DAYS", default_value_t = 397, value_parser = days)]
        days: i64,
        #[command(flatten)]
        place: Place,
        #[command(flatten)]
        secret: Secret,
    },
    /// Show the subject, issuer, validity and matches of a certificate
    Show {
        /// File with certificates in PEM format
        file: PathBuf,
    },
}

#[derive(Debug, Args)]
struct Place {
    /// Folder of the authority and of what it signs
    #[arg(long, value_name = "DIR", default_value = "certificates")]
    folder: PathBuf,
    /// Replace existing files
    #[arg(long)]
    replace: bool,
}

#[derive(Debug, Args)]
struct Secret {
    /// File whose first line is the passphrase of the authority's key
    ///
    /// Otherwise it is taken from MOORFALL_PASSPHRASE, or asked for.
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
}

/// Carries out the command.
pub fn run(arguments: &Arguments) -> Done {
    match &arguments.what {
        What::Authority { name, days, place, secret, no_passphrase } => {
            let pass_phrase = if *no_passphrase { None } else { Some(secret.choose()?) };
            make_authority(name, *days, place, pass_phrase.as_deref().map(String::as_str))
        }
        What::Server { hosts, name, days, place, secret } => {
            let mut params = params(hosts)?;
            params.distinguished_name.push(DnType::CommonName, hosts[0].as_str());
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
            sign(params, name, *days, place, secret)
        }
        What::Device { name, hosts, days, place, secret } => {
            let mut params = params(hosts)?;
            params.distinguished_name.push(DnType::CommonName, name.as_str());
            params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
            sign(params, name, *days, place, secret)
        }
        What::Show { file } => show(file),
    }
}

fn params(hosts: &[String]) -> Result<CertificateParams, Failure> {
    CertificateParams::new(hosts)
        .map_err(|error| Failure(format!("{} is not valid in a certificate: {error}.", hosts.join(", "))))
}

fn make_authority(name: &str, days: i64, place: &Place, pass_phrase: Option<&str>) -> Done {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    valid_for(&mut params, days);
    let key = KeyPair::generate().map_err(|error| Failure(format!("The key could not be created: {error}.")))?;
    let certificate =
        params.self_signed(&key).map_err(|error| Failure(format!("The certificate could not be signed: {error}.")))?;
    let files = place.files("authority")?;
    place.write(&files.key, key_text(&key, pass_phrase)?.as_bytes(), 0o600)?;
    place.write(&files.certificate, certificate.pem().as_bytes(), 0o644)?;
    let how = if pass_phrase.is_some() { "protected by the passphrase" } else { "readable only by you" };
    output::finish((|| {
        tell_made(&files, how)?;
        print_certificate(certificate.der())
    })())
}

fn sign(mut params: CertificateParams, name: &str, days: i64, place: &Place, secret: &Secret) -> Done {
    let authority = place.authority(secret)?;
    let ends = valid_for(&mut params, days);
    if ends > authority.ends {
        return Err(Failure(format!(
            "The authority expires on {}, before the certificate would. Use fewer --days, or create a new authority.",
            authority.ends.date()
        )));
    }
    params.use_authority_key_identifier_extension = true;
    params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
    let key = KeyPair::generate().map_err(|error| Failure(format!("The key could not be created: {error}.")))?;
    let certificate = params
        .signed_by(&key, &authority.issuer)
        .map_err(|error| Failure(format!("The certificate could not be signed: {error}.")))?;
    let files = place.files(name)?;
    place.write(&files.key, key_text(&key, None)?.as_bytes(), 0o600)?;
    place.write(&files.certificate, certificate.pem().as_bytes(), 0o644)?;
    output::finish((|| {
        tell_made(&files, "readable only by you")?;
        print_certificate(certificate.der())
    })())
}

/// Gives when it ends.
fn valid_for(params: &mut CertificateParams, days: i64) -> OffsetDateTime {
    let now = OffsetDateTime::now_utc();
    params.not_before = now - CLOCKS;
    params.not_after = now + Duration::days(days);
    params.not_after
}

fn key_text(key: &KeyPair, pass_phrase: Option<&str>) -> Result<Zeroizing<String>, Failure> {
    let Some(pass_phrase) = pass_phrase else { return Ok(Zeroizing::new(key.serialize_pem())) };
    let wrong = |error: pkcs8::Error| Failure(format!("The key could not be encrypted: {error}."));
    let bytes = Zeroizing::new(key.serialize_der());
    let plain = PrivateKeyInfoRef::try_from(bytes.as_slice()).map_err(|error| Failure(error.to_string()))?;
    let sealed = plain.encrypt_with_rng(&mut rand::rng(), pass_phrase).map_err(wrong)?;
    sealed.to_pem("ENCRYPTED PRIVATE KEY", LineEnding::LF).map_err(|error| Failure(error.to_string()))
}

/// Files of one certificate.
struct Files {
    certificate: PathBuf,
    key: PathBuf,
}

struct Authority {
    issuer: Issuer<'static, KeyPair>,
    ends: OffsetDateTime,
}

impl Place {
    fn files(&self, name: &str) -> Result<Files, Failure> {
        let wrong = |error: std::io::Error| {
            Failure(format!("{} can't be used: {error}. Check the path and its permissions.", self.folder.display()))
        };
        std::fs::DirBuilder::new().recursive(true).mode(0o755).create(&self.folder).map_err(wrong)?;
        let file = |ending: &str| self.folder.join(format!("{name}.{ending}"));
        let files = Files { certificate: file("pem"), key: file("key") };
        let there = [&files.certificate, &files.key].into_iter().find(|path| path.exists());
        match there.filter(|_| !self.replace) {
            Some(path) => Err(Failure(format!("{} exists. Use --replace to replace it.", path.display()))),
            None => Ok(files),
        }
    }

    /// Written beside and moved into place, so that a listener never reads half of it.
    fn write(&self, path: &Path, bytes: &[u8], mode: u32) -> Result<(), Failure> {
        let wrong = |error: std::io::Error| {
            Failure(format!("{} can't be written: {error}. Check the path and its permissions.", path.display()))
        };
        let beside = path.with_extension("new");
        // A leftover may have wider rights than the new file shall have.
        let _ = std::fs::remove_file(&beside);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(mode).open(&beside).map_err(wrong)?;
        file.write_all(bytes).and_then(|()| file.sync_all()).map_err(wrong)?;
        std::fs::rename(&beside, path).map_err(wrong)
    }

    fn authority(&self, secret: &Secret) -> Result<Authority, Failure> {
        let read = |name: &str| {
            let path = self.folder.join(name);
            std::fs::read_to_string(&path).map_err(|error| {
                Failure(format!(
                    "{} can't be read: {error}.. Create an authority with `moorfall cert authority --folder {}`.",
                    path.display(),
                    self.folder.display()
                ))
            })
        };
        let certificate = read("authority.pem")?;
        let key = secret.open(Zeroizing::new(read("authority.key")?))?;
        let key = KeyPair::from_pem(&key)
            .map_err(|error| Failure(format!("authority.key is not a supported key: {error}.")))?;
        let (_, pem) = x509_parser::pem::parse_x509_pem(certificate.as_bytes())
            .map_err(|error| Failure(format!("authority.pem is not a certificate: {error}.")))?;
        let ends = read_certificate(&pem.contents)?.ends;
        let issuer = Issuer::from_ca_cert_pem(&certificate, key)
            .map_err(|error| Failure(format!("authority.pem can't sign: {error}.")))?;
        Ok(Authority { issuer, ends })
    }
}

impl Secret {
    /// A pass phrase for a new key.
    fn choose(&self) -> Result<Zeroizing<String>, Failure> {
        let given = self.read("Passphrase for the authority's key: ")?;
        if given.is_empty() {
            return Err(Failure(
                "The passphrase is empty. Give one, or use --no-passphrase to rely on file permissions.".into(),
            ));
        }
        Ok(given)
    }

    /// The text of a key, opened if it is protected.
    fn open(&self, text: Zeroizing<String>) -> Result<Zeroizing<String>, Failure> {
        if !text.contains("ENCRYPTED PRIVATE KEY") {
            return Ok(text);
        }
        let wrong = |error: &dyn std::fmt::Display| Failure(format!("The authority's key can't be opened: {error}."));
        let (_, document) = SecretDocument::from_pem(&text).map_err(|error| wrong(&error))?;
        let sealed = EncryptedPrivateKeyInfoRef::try_from(document.as_bytes()).map_err(|error| wrong(&error))?;
        let given = self.read("Passphrase of the authority's key: ")?;
        let opened = sealed.decrypt(given.as_bytes()).map_err(|_| wrong(&"The passphrase is wrong."))?;
        opened.to_pem("PRIVATE KEY", LineEnding::LF).map_err(|error| wrong(&error))
    }

    fn read(&self, prompt: &str) -> Result<Zeroizing<String>, Failure> {
        let bytes = read_password(self.passphrase_file.as_deref(), PASSPHRASE, "--passphrase-file", prompt)?;
        String::from_utf8(bytes.to_vec())
            .map(Zeroizing::new)
            .map_err(|_| Failure("A passphrase must be UTF-8 text.".into()))
    }
}

fn tell_made(files: &Files, how: &str) -> std::io::Result<()> {
    output::line(format_args!("certificate  {}", files.certificate.display()))?;
    output::line(format_args!("key          {}, {how}", files.key.display()))
}

fn show(file: &Path) -> Done {
    let wrong = |words: &str| Failure(format!("{} {words}", file.display()));
    let bytes = std::fs::read(file).map_err(|error| wrong(&format!("can't be read: {error}.")))?;
    let mut found = Vec::new();
    for pem in x509_parser::pem::Pem::iter_from_buffer(&bytes) {
        let pem = pem.map_err(|error| wrong(&format!("is not in PEM format: {error}.")))?;
        if pem.label == "CERTIFICATE" {
            found.push(pem.contents);
        }
    }
    if found.is_empty() {
        return Err(wrong("has no certificate in PEM format."));
    }
    output::finish(found.iter().try_for_each(|certificate| print_certificate(certificate)))
}

fn print_certificate(der: &[u8]) -> std::io::Result<()> {
    let about = match read_certificate(der) {
        Ok(about) => about,
        Err(Failure(words)) => return output::line(words),
    };
    output::line(format_args!("subject      {}", printable(&about.subject)))?;
    output::line(format_args!("signed by    {}", printable(&about.issuer)))?;
    let left = (about.ends - OffsetDateTime::now_utc()).whole_days();
    let state = if about.ends < OffsetDateTime::now_utc() { "expired".into() } else { format!("{left} days left") };
    output::line(format_args!("valid        {} to {}, {state}", about.begins.date(), about.ends.date()))?;
    let matches = ClientCertificate::read(der).map(|certificate| certificate.matches).unwrap_or_default();
    for (place, one) in matches.iter().enumerate() {
        let heading = if place == 0 { "matches" } else { "" };
        output::line(format_args!("{heading:12} {}", printable(one)))?;
    }
    Ok(())
}

/// What is said of a certificate.
struct About {
    subject: String,
    issuer: String,
    begins: OffsetDateTime,
    ends: OffsetDateTime,
}

fn read_certificate(der: &[u8]) -> Result<About, Failure> {
    let (_, parsed) = x509_parser::parse_x509_certificate(der)
        .map_err(|error| Failure(format!("A certificate can't be read: {error}..")))?;
    let moment = |at: x509_parser::time::ASN1Time| {
        OffsetDateTime::from_unix_timestamp(at.timestamp()).unwrap_or(OffsetDateTime::UNIX_EPOCH)
    };
    Ok(About {
        subject: parsed.subject().to_string(),
        issuer: parsed.issuer().to_string(),
        begins: moment(parsed.validity().not_before),
        ends: moment(parsed.validity().not_after),
    })
}

fn days(text: &str) -> Result<i64, Misread> {
    text.parse().ok().filter(|days| (1..=36_500).contains(days)).ok_or_else(|| "use 1 to 36,500 days".into())
}

/// A name of files and subjects: what could lead to another folder is not one.
fn file_name(text: &str) -> Result<String, Misread> {
    let good = !text.is_empty()
        && !text.starts_with('.')
        && text.len() <= 64
        && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'));
    if !good {
        return Err("use up to 64 letters, digits, - _ and ., without a dot at the beginning".into());
    }
    if text == "authority" {
        return Err("this is the authority's own name; use another".into());
    }
    Ok(text.to_owned())
}
