//! A mail server that keeps letters: as much of the protocol as a client needs (RFC 5321, RFC 3207, RFC 4954).

use std::{io, time::Duration};

use base64::{Engine, engine::general_purpose::STANDARD};
use moorfall_contract::kinds::{NoticeWay, StandInFault};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
    time::{sleep, timeout},
};

use super::{Shared, USER};

/// How long one client may take.
const LONGEST: Duration = Duration::from_secs(30);

/// Bytes of a letter at most.
const LETTER: usize = 256 * 1024;

pub(super) async fn serve(listener: TcpListener, shared: Shared) {
    loop {
        let (stream, _) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(_) => continue,
            },
            () = shared.stop.cancelled() => return,
        };
        let shared = shared.clone();
        tokio::spawn(async move {
            let stop = shared.stop.clone();
            // A client that goes away in the middle is no matter.
            let _ = stop.run_until_cancelled(timeout(LONGEST, visit(stream, &shared))).await;
        });
    }
}

async fn visit(stream: TcpStream, shared: &Shared) -> io::Result<()> {
    let fault = shared.inbox.faults().mail;
    if fault == StandInFault::Hangs {
        sleep(LONGEST).await;
        return Ok(());
    }
    let mut plain = Conversation::new(stream);
    plain.say("220 stand-in ready").await?;
    if plain.talk(shared, false).await? {
        let acceptor = if fault == StandInFault::BadCertificate { &shared.bad } else { &shared.good };
        let secured = acceptor.accept(plain.stream.into_inner()).await?;
        Conversation::new(secured).talk(shared, true).await?;
    }
    Ok(())
}

struct Conversation<S> {
    stream: BufReader<S>,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Conversation<S> {
    fn new(stream: S) -> Self {
        Self { stream: BufReader::new(stream) }
    }

    async fn say(&mut self, line: &str) -> io::Result<()> {
        self.stream.write_all(format!("{line}\r\n").as_bytes()).await?;
        self.stream.flush().await
    }

    /// Goes on until the client leaves, or wants to be secured: then it gives true.
    async fn talk(&mut self, shared: &Shared, is_secured: bool) -> io::Result<bool> {
        let (mut is_known, mut from, mut to) = (false, String::new(), String::new());
        let mut line = String::new();
        loop {
            line.clear();
            if self.stream.read_line(&mut line).await? == 0 {
                return Ok(false);
            }
            let command = line.trim_end();
            let (verb, rest) = command.split_once([' ', ':']).unwrap_or((command, ""));
            match verb.to_ascii_uppercase().as_str() {
                "EHLO" | "HELO" if is_secured => self.say("250-stand-in\r\n250 AUTH PLAIN LOGIN").await?,
                "EHLO" | "HELO" => self.say("250-stand-in\r\n250 STARTTLS").await?,
                "STARTTLS" if !is_secured => {
                    self.say("220 go on").await?;
                    return Ok(true);
                }
                "QUIT" => {
                    self.say("221 goodbye").await?;
                    return Ok(false);
                }
                "NOOP" | "RSET" => self.say("250 ok").await?,
                _ if !is_secured => self.say("530 5.7.0 use STARTTLS first").await?,
                "AUTH" => {
                    let shown = rest.split_once(' ').and_then(|(_, shown)| STANDARD.decode(shown).ok());
                    is_known = shown.as_deref() == Some(format!("\0{USER}\0{}", shared.password).as_bytes());
                    let answer = if is_known { "235 2.7.0 welcome" } else { "535 5.7.8 wrong name or password" };
                    self.say(answer).await?;
                }
                _ if !is_known => self.say("530 5.7.0 sign in first").await?,
                _ if shared.inbox.faults().mail == StandInFault::Refuses => {
                    self.say("451 4.3.0 no letters are taken now").await?;
                }
                "MAIL" => {
                    from = address(rest);
                    self.say("250 ok").await?;
                }
                "RCPT" => {
                    to = address(rest);
                    self.say("250 ok").await?;
                }
                "DATA" => {
                    self.say("354 go on, end with a point").await?;
                    let letter = self.letter().await?;
                    let (title, text) = read(&letter);
                    shared.inbox.receive(NoticeWay::Mail, (&from, &to), (&title, &text), None);
                    self.say("250 2.0.0 taken").await?;
                }
                _ => self.say("502 5.5.1 not known here").await?,
            }
        }
    }

    /// Everything up to the point, with doubled points made single (RFC 5321 §4.5.2).
    async fn letter(&mut self) -> io::Result<String> {
        let mut letter = String::new();
        let mut line = String::new();
        loop {
            line.clear();
            if self.stream.read_line(&mut line).await? == 0 || line.trim_end_matches(['\r', '\n']) == "." {
                return Ok(letter);
            }
            if letter.len() < LETTER {
                letter.push_str(line.strip_prefix('.').unwrap_or(&line));
            }
        }
    }
}

/// What stands between the brackets.
fn address(text: &str) -> String {
    let inner = text.split_once('<').and_then(|(_, rest)| rest.split_once('>'));
    inner.map_or(text, |(inner, _)| inner).to_owned()
}

/// The subject of a letter, and its text.
fn read(letter: &str) -> (String, String) {
    let (head, body) = letter.split_once("\r\n\r\n").unwrap_or((letter, ""));
    // A header may go on in the next line.
    let head = head.replace("\r\n ", " ").replace("\r\n\t", " ");
    let field = |name: &str| {
        let of = |line: &str| {
            let (key, value) = line.split_once(':')?;
            key.eq_ignore_ascii_case(name).then(|| value.trim().to_owned())
        };
        head.lines().find_map(of).unwrap_or_default()
    };
    let decoded = match field("Content-Transfer-Encoding").to_ascii_lowercase().as_str() {
        "quoted-printable" => quoted_printable::decode(body, quoted_printable::ParseMode::Robust).ok(),
        "base64" => STANDARD.decode(body.split_whitespace().collect::<String>()).ok(),
        _ => None,
    };
    let text = decoded.map_or_else(|| body.to_owned(), |bytes| String::from_utf8_lossy(&bytes).into_owned());
    (field("Subject"), text.replace("\r\n", "\n"))
}
