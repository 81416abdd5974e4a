//! E-mail, over a connection that is secured before anything is said (RFC 3207, RFC 8314).

use std::{error::Error, time::Duration};

use lettre::{
    Address, AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor,
    message::{Mailbox, header::ContentType},
    transport::smtp::{
        authentication::Credentials,
        client::{Certificate, CertificateStore, Tls, TlsParameters},
    },
};
use moorfall_contract::alerts::NoticeFacts;

use crate::{
    not_sent::NotSent,
    settings::{MailSecurity, MailSettings, SettingsError, read},
};

/// How long the server may take to answer one command.
const ANSWER: Duration = Duration::from_secs(10);

/// Sends letters by one server.
pub(crate) struct Mail {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
}

impl std::fmt::Debug for Mail {
    /// Leaves the password out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Mail").field("from", &self.from).finish_non_exhaustive()
    }
}

impl Mail {
    pub(crate) fn new(settings: &MailSettings) -> Result<Self, SettingsError> {
        let MailSettings { server, port, security, user, password_file, from, authority } = settings;
        let from: Mailbox = from.parse().map_err(|_| SettingsError::From(from.clone()))?;
        let tls_fault = |error: lettre::transport::smtp::Error| SettingsError::Tls(error.to_string());
        let mut parameters = TlsParameters::builder(server.clone());
        if let Some(path) = authority {
            parameters = parameters.certificate_store(CertificateStore::None);
            let certificate = Certificate::from_pem(read(path)?.as_bytes()).map_err(tls_fault)?;
            parameters = parameters.add_root_certificate(certificate);
        }
        let parameters = parameters.build_rustls().map_err(tls_fault)?;
        let tls = match security {
            MailSecurity::Starttls => Tls::Required(parameters),
            MailSecurity::Tls => Tls::Wrapper(parameters),
        };
        let builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(server);
        let mut builder = builder.port(*port).tls(tls).timeout(Some(ANSWER));
        match (user, password_file) {
            (Some(user), Some(file)) => builder = builder.credentials(Credentials::new(user.clone(), read(file)?)),
            (None, None) => {}
            _ => return Err(SettingsError::HalfUser),
        }
        Ok(Self { transport: builder.build(), from })
    }

    pub(crate) async fn send(&self, target: &str, facts: &NoticeFacts) -> Result<String, NotSent> {
        let to: Address = target.parse().map_err(|_| NotSent::Address(target.to_owned()))?;
        let domain = self.from.email.domain();
        let letter = Message::builder()
            .from(self.from.clone())
            .to(Mailbox::new(None, to))
            .subject(facts.title())
            // The same however often it is sent, so that the second one can be told as such.
            .message_id(Some(format!("<{}@{domain}>", facts.id)))
            .header(ContentType::TEXT_PLAIN)
            .body(facts.to_string())
            .map_err(|error| NotSent::Address(error.to_string()))?;
        match self.transport.send(letter).await {
            Ok(answer) => Ok(format!("{} {}", answer.code(), answer.message().collect::<Vec<_>>().join(" "))),
            Err(error) => Err(not_sent(&error)),
        }
    }
}

fn not_sent(error: &lettre::transport::smtp::Error) -> NotSent {
    if error.is_timeout() {
        return NotSent::TimedOut(ANSWER);
    }
    let why = error.source().map_or_else(|| error.to_string(), ToString::to_string);
    match error.status() {
        Some(code) => NotSent::Answered(format!("{code}: {why}")),
        None => NotSent::Connection(why),
    }
}
