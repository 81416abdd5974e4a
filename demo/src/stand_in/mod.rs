//! A stand-in for whoever is told of alerts: a mail server and a web hook on loopback that keep what they receive in an
//! inbox, and fail on demand.

mod hook;
mod mail;

use std::{
    io,
    net::{Ipv4Addr, SocketAddr},
    sync::Arc,
};

use moorfall_links::Inbox;
use rcgen::{CertifiedKey, generate_simple_self_signed};
use rustls::{
    ServerConfig,
    crypto::ring::default_provider,
    pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer},
};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::{CancellationToken, DropGuard};

/// The name that letters are sent in with.
pub const USER: &str = "moorfall";

/// A running stand-in; it ends when it is dropped.
#[derive(Debug)]
pub struct StandIn {
    /// Where letters are taken, on loopback; secured on demand (STARTTLS).
    pub mail: SocketAddr,
    /// Where the web hook is, on loopback; TLS from the first byte on.
    pub hook: SocketAddr,
    /// What has come.
    pub inbox: Arc<Inbox>,
    /// The certificate by which both are trusted, PEM.
    pub authority: String,
    _end: DropGuard,
}

/// What both servers share.
#[derive(Clone)]
struct Shared {
    inbox: Arc<Inbox>,
    /// With the certificate that is trusted.
    good: TlsAcceptor,
    /// With one that nobody trusts.
    bad: TlsAcceptor,
    password: Arc<str>,
    secret: Arc<[u8]>,
    stop: CancellationToken,
}

/// What goes wrong at the start.
#[derive(Debug, thiserror::Error)]
pub enum StandInError {
    /// No port is free.
    #[error("no port can be opened on loopback: {0}")]
    Port(#[from] io::Error),
    /// No certificate can be made.
    #[error("no certificate can be made: {0}")]
    Certificate(#[from] rcgen::Error),
    /// TLS can't be set up.
    #[error("TLS can't be set up: {0}")]
    Tls(#[from] rustls::Error),
}

impl StandIn {
    /// Starts both servers on free ports of loopback, that of the hook on this one if it is free. Letters need this
    /// password, calls are signed with this secret.
    pub async fn start(password: &str, secret: &[u8], hook_port: u16) -> Result<Self, StandInError> {
        let (good, authority) = acceptor()?;
        let (bad, _) = acceptor()?;
        let stop = CancellationToken::new();
        let shared = Shared {
            inbox: Arc::default(),
            good,
            bad,
            password: password.into(),
            secret: secret.into(),
            stop: stop.clone(),
        };
        let mail = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let hook = match TcpListener::bind((Ipv4Addr::LOCALHOST, hook_port)).await {
            Ok(hook) => hook,
            Err(_) => TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?,
        };
        let (mail_address, hook_address) = (mail.local_addr()?, hook.local_addr()?);
        let inbox = Arc::clone(&shared.inbox);
        tokio::spawn(mail::serve(mail, shared.clone()));
        tokio::spawn(hook::serve(hook, shared));
        Ok(Self { mail: mail_address, hook: hook_address, inbox, authority, _end: stop.drop_guard() })
    }
}

/// For a certificate of its own; with the certificate.
fn acceptor() -> Result<(TlsAcceptor, String), StandInError> {
    let names = ["localhost".to_owned(), "127.0.0.1".to_owned()];
    let CertifiedKey { cert, signing_key } = generate_simple_self_signed(names)?;
    let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(signing_key.serialize_der()));
    let config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(vec![cert.der().clone()], key)?;
    Ok((TlsAcceptor::from(Arc::new(config)), cert.pem()))
}
