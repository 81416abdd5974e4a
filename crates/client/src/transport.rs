//! The steps from a remote's name to a stream of MQTT: name, port, TLS, WebSocket.

use std::{
    io,
    net::SocketAddr,
    pin::Pin,
    task::{Context, Poll, ready},
};

use bytes::{Buf, Bytes};
use futures_util::{Sink, Stream};
use rustls::{CertificateError, pki_types::ServerName};
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::{TcpStream, lookup_host},
};
use tokio_rustls::{TlsConnector, client::TlsStream};
use tokio_tungstenite::{
    WebSocketStream, client_async,
    tungstenite::{self, Message, client::IntoClientRequest, http::HeaderValue},
};

use crate::{AskedBy, ConnectError, Remote, Trust};

/// What is below MQTT.
pub trait Layer: AsyncRead + AsyncWrite + Send + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Unpin> Layer for T {}

/// The addresses that the host's name stands for.
pub(crate) async fn look_up(remote: &Remote) -> Result<Vec<SocketAddr>, ConnectError> {
    let unknown = || ConnectError::UnknownHost { host: remote.host.clone() };
    let found = lookup_host((remote.host.as_str(), remote.port)).await.map_err(|_| unknown())?;
    let found: Vec<SocketAddr> = found.collect();
    if found.is_empty() { Err(unknown()) } else { Ok(found) }
}

/// A connection to the first of the addresses that takes one.
pub(crate) async fn dial(remote: &Remote, addresses: &[SocketAddr]) -> Result<TcpStream, ConnectError> {
    let mut last = io::Error::from(io::ErrorKind::AddrNotAvailable);
    for candidate in addresses {
        match TcpStream::connect(candidate).await {
            Ok(stream) => {
                // Small packets must not wait for more; without it they only come later.
                let _ = stream.set_nodelay(true);
                return Ok(stream);
            }
            Err(error) => last = error,
        }
    }
    let address = remote.address();
    Err(match last.kind() {
        io::ErrorKind::ConnectionRefused => ConnectError::NothingListening { address },
        _ => ConnectError::Unreachable { address, error: last },
    })
}

/// TLS over a connection: the broker is the one that it says it is.
pub(crate) async fn secure(
    remote: &Remote,
    trust: &Trust,
    stream: TcpStream,
    asked_by: AskedBy,
) -> Result<TlsStream<TcpStream>, ConnectError> {
    let name = ServerName::try_from(remote.host.clone()).map_err(|_| ConnectError::Tls {
        address: remote.address(),
        words: format!("{} is not a valid name in a certificate", remote.host),
    })?;
    let connector = TlsConnector::from(std::sync::Arc::new(trust.config()?));
    connector.connect(name, stream).await.map_err(|error| {
        let words = tls_words(&error, &remote.host, asked_by);
        ConnectError::Tls { address: remote.address(), words }
    })
}

/// What went wrong in a stream, if it is of TLS.
pub(crate) fn tls_fault(error: &io::Error, host: &str, asked_by: AskedBy) -> Option<String> {
    rustls_error(error).map(|_| tls_words(error, host, asked_by))
}

fn rustls_error(error: &io::Error) -> Option<&rustls::Error> {
    error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>())
}

fn tls_words(error: &io::Error, host: &str, asked_by: AskedBy) -> String {
    match rustls_error(error) {
        Some(rustls::Error::InvalidCertificate(wrong)) => match wrong {
            CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
                "its certificate has expired. It needs a new one, or the clock of this machine is wrong".into()
            }
            CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
                "its certificate is not valid yet. Check the clock of this machine".into()
            }
            CertificateError::NotValidForNameContext { presented, .. } => {
                let names = if presented.is_empty() { "no name".to_owned() } else { presented.join(", ") };
                format!("its certificate is for {names}, not for {host}. Connect with a name that is in it")
            }
            CertificateError::NotValidForName => {
                format!("its certificate is not for {host}. Connect with a name that is in it")
            }
            CertificateError::UnknownIssuer => format!(
                "the authority that signed its certificate is not trusted here. If it is yours, {}",
                asked_by.authority()
            ),
            CertificateError::Revoked => "its certificate has been revoked".into(),
            other => format!("its certificate can't be trusted: {other}"),
        },
        Some(rustls::Error::InvalidMessage(_)) => {
            "it sent something that is not TLS. Perhaps this port is for plain mqtt:// or ws://".into()
        }
        Some(rustls::Error::AlertReceived(alert)) => {
            format!("it ended the handshake with the alert {alert:?}: {}", alert_remedy(*alert, asked_by))
        }
        _ if error.kind() == io::ErrorKind::UnexpectedEof => {
            "it closed the connection during the handshake. Perhaps this port is for plain mqtt:// or ws://".into()
        }
        _ => error.to_string(),
    }
}

fn alert_remedy(alert: rustls::AlertDescription, asked_by: AskedBy) -> String {
    use rustls::AlertDescription as Alert;
    let words = match alert {
        Alert::CertificateRequired | Alert::HandshakeFailure => {
            return format!("it may require a client certificate, {}", asked_by.certificate());
        }
        Alert::UnknownCA | Alert::BadCertificate | Alert::CertificateUnknown | Alert::DecryptError => {
            "it does not trust the client certificate"
        }
        Alert::CertificateExpired => "the client certificate has expired",
        Alert::CertificateRevoked => "the client certificate has been revoked",
        _ => "client and broker have no common TLS parameters",
    };
    words.to_owned()
}

/// A WebSocket over a connection.
pub(crate) async fn upgrade<S: Layer>(remote: &Remote, stream: S) -> Result<WebSocket<S>, ConnectError> {
    let fault = |words: String| ConnectError::WebSocket { address: remote.address(), words };
    let scheme = if remote.scheme.is_secure() { "wss" } else { "ws" };
    let url = format!("{scheme}://{}{}", remote.address(), remote.path);
    let mut request = url.into_client_request().map_err(|error| fault(error.to_string()))?;
    // [MQTT-6.0.0-3].
    request.headers_mut().insert("Sec-WebSocket-Protocol", HeaderValue::from_static("mqtt"));
    let (inner, _) = client_async(request, stream).await.map_err(|error| {
        fault(match error {
            tungstenite::Error::Http(response) => {
                format!("it responded {} at {}. Check the path", response.status(), remote.path)
            }
            tungstenite::Error::Protocol(_) | tungstenite::Error::Io(_) => {
                format!("its response is not HTTP ({error}). Perhaps this port is for mqtt:// or wss://")
            }
            other => other.to_string(),
        })
    })?;
    Ok(WebSocket { inner, current: Bytes::new() })
}

/// The bytes over the binary messages of a client's WebSocket.
pub(crate) struct WebSocket<S> {
    inner: WebSocketStream<S>,
    /// Of the message that was received last.
    current: Bytes,
}

fn broken(error: tungstenite::Error) -> io::Error {
    match error {
        tungstenite::Error::Io(error) => error,
        other => io::Error::other(other),
    }
}

impl<S: Layer> AsyncRead for WebSocket<S> {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, out: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        while !self.current.has_remaining() {
            match ready!(Pin::new(&mut self.inner).poll_next(context)) {
                Some(Ok(Message::Binary(bytes))) => self.current = bytes,
                Some(Ok(Message::Text(_))) => {
                    // [MQTT-6.0.0-1].
                    return Poll::Ready(Err(io::Error::other("the broker sent a text frame instead of a binary one")));
                }
                Some(Ok(Message::Close(_))) | None => return Poll::Ready(Ok(())),
                Some(Ok(_)) => {}
                Some(Err(tungstenite::Error::ConnectionClosed)) => return Poll::Ready(Ok(())),
                Some(Err(error)) => return Poll::Ready(Err(broken(error))),
            }
        }
        let count = self.current.len().min(out.remaining());
        out.put_slice(&self.current.split_to(count));
        Poll::Ready(Ok(()))
    }
}

impl<S: Layer> AsyncWrite for WebSocket<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        ready!(Pin::new(&mut self.inner).poll_ready(context)).map_err(broken)?;
        let message = Message::Binary(Bytes::copy_from_slice(bytes));
        Pin::new(&mut self.inner).start_send(message).map_err(broken)?;
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context).map_err(broken)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match ready!(Pin::new(&mut self.inner).poll_close(context)) {
            Ok(()) | Err(tungstenite::Error::ConnectionClosed) => Poll::Ready(Ok(())),
            Err(error) => Poll::Ready(Err(broken(error))),
        }
    }
}
