//! `moorfall demo`

use std::{
    collections::BTreeMap,
    io::Write,
    net::SocketAddr,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use clap::Args;
use moorfall_broker::listeners::settings::ListenerSettings;
use moorfall_broker::random::random_text;
use moorfall_cli::{
    arguments::duration,
    output::{self, Done, Failure, STRONG},
    stop::Stop,
};
use moorfall_contract::identities::IdentityDraft;
use moorfall_demo::{
    DemoIdentity, Fleet,
    stand_in::{self, StandIn},
    tideway::{self, Tideway},
};
use moorfall_links::WeakLink;
use moorfall_service::{MailServer, NoticeSettings, Security, Service, Settings};
use time::OffsetDateTime;
use tokio::time::timeout;

use crate::{
    config::default_data,
    logging::{self, LogFormat},
};

#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// End after this time, for example 30s or 5m; left out, it runs until Ctrl-C
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    time: Option<Duration>,
    /// Folder for what the demo keeps [default: moorfall-demo beside the usual data folder]
    #[arg(long, value_name = "DIR")]
    data: Option<PathBuf>,
    /// Where MQTT clients connect
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:1883")]
    mqtt: SocketAddr,
    /// Where the console and the API are
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7070")]
    http: SocketAddr,
    /// Number from which the weather is made; the same number gives the same weather
    #[arg(long, value_name = "NUMBER", default_value_t = 7)]
    seed: u64,
}

pub(crate) async fn run(arguments: Arguments) -> Done {
    logging::start(LogFormat::Text, "warn");
    let mut stop = Stop::listen()?;
    let data = arguments.data.clone().unwrap_or_else(|| default_data().with_file_name("moorfall-demo"));
    let stand_in = begin_stand_in(&data).await?;
    let barrier = Barrier::begin(&data).await?;
    let settings = Settings {
        notices: stand_in.notices,
        inbox: Some(Arc::clone(&stand_in.servers.inbox)),
        weak_link: Some(Arc::clone(&barrier.link)),
        listeners: vec![ListenerSettings::tcp(moorfall_broker::listeners::settings::DEFAULT_LISTENER, arguments.mqtt)],
        http: arguments.http,
        ..Settings::new(data)
    };
    let service = match Service::start(&settings, |step| output::remark(format_args!("{step}…"))).await {
        Ok(service) => service,
        Err(failure) => {
            barrier.stop().await;
            return Err(failure.into());
        }
    };
    output::remark("creating the identities of the catchment…");
    let ports = (stand_in.servers.hook.port(), barrier.link.address().port());
    let passwords = match prepare(&service, arguments.seed, ports).await {
        Ok(passwords) => passwords,
        Err(failure) => {
            service.stop().await;
            barrier.stop().await;
            return Err(failure);
        }
    };
    let folder = service.data_folder().path().to_owned();
    let mqtt = service.mqtt_address().expect("the one listener is of plain TCP");
    let fleet = Fleet::start(mqtt, passwords, arguments.seed);
    let told = tell(&service, &folder, &barrier, arguments.time);
    let whole_time = arguments.time.unwrap_or(Duration::MAX);
    // Either the time is over or somebody wants it to end; both end it in order.
    let _ = timeout(whole_time, stop.wait()).await;
    output::remark("stopping…");
    fleet.stop().await;
    service.stop().await;
    barrier.stop().await;
    output::finish(told)
}

fn tell(service: &Service, folder: &Path, barrier: &Barrier, time: Option<Duration>) -> std::io::Result<()> {
    let program = std::env::args().next().unwrap_or_else(|| "moorfall".into());
    let secret = folder.join(moorfall_contract::running::SECRET);
    let auditor = password_file(folder, "auditor");
    let gate = "harrowmere/gorge/kettle-weir/gate/target";
    let end = time.map_or("press Ctrl-C to stop it".to_owned(), |time| format!("it stops after {} s", time.as_secs()));
    output::line(format_args!("{STRONG}The Harrowmere catchment is running{STRONG:#}; {end}."))?;
    output::line(format_args!("  Console  http://{}", service.http_address()))?;
    output::line(format_args!("  Sign in  {}  (once)", service.sign_in_link()))?;
    output::line(format_args!("           or with the secret in {}", secret.display()))?;
    for (_, url) in service.listeners() {
        output::line(format_args!("  MQTT     {url}"))?;
    }
    output::line(format_args!("  Barrier  http://{}  (its own broker)", barrier.service.http_address()))?;
    output::line("In a second terminal, try:")?;
    output::line(format_args!("  {program} subscribe 'harrowmere/+/+/stage/level'"))?;
    output::line(format_args!("  {program} request {gate} 40"))?;
    output::line(format_args!("  {program} recording start 'harrowmere/gorge/#' --for 10s"))?;
    output::line(format_args!("  {program} bridge demo-link cut && {program} bridge show tideway"))?;
    output::line(format_args!(
        "  {program} publish {gate} 90 --as auditor \\\n    --password-file {}",
        auditor.display()
    ))
}

/// The barrier's own broker, the link to it, and who connects there.
struct Barrier {
    service: Service,
    link: Arc<WeakLink>,
    fleet: Tideway,
}

impl Barrier {
    /// Starts it in a folder beside what the demo keeps, and puts the password of the bridge where it is looked for.
    async fn begin(data: &Path) -> Result<Self, Failure> {
        let any = SocketAddr::from(([127, 0, 0, 1], 0));
        let settings = Settings {
            listeners: vec![ListenerSettings::tcp(moorfall_broker::listeners::settings::DEFAULT_LISTENER, any)],
            http: any,
            is_announced: false,
            ..Settings::new(data.join("tideway"))
        };
        output::remark("starting the broker of the barrier…");
        let service = Service::start(&settings, |_| {}).await?;
        match Self::prepare(&service, data).await {
            Ok((link, fleet)) => Ok(Self { service, link, fleet }),
            Err(failure) => {
                service.stop().await;
                Err(failure)
            }
        }
    }

    async fn prepare(service: &Service, data: &Path) -> Result<(Arc<WeakLink>, Tideway), Failure> {
        let passwords = make_identities(service, tideway::identities()).await?;
        let applied =
            service.apply_blueprint(tideway::blueprint(), "demo", "The barrier as the demo describes it").await;
        applied.map_err(|why| Failure(format!("The blueprint of the barrier can't be applied:\n{why}")))?;
        let folder = data.join("bridges");
        let secret = passwords.get(tideway::BRIDGE).map_or("", String::as_str);
        let kept = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder);
        kept.and_then(|()| write_secret(&folder.join("tideway.secret"), secret)).map_err(|error| {
            Failure(format!("{} can't be used: {error}. Use another folder with --data DIR.", folder.display()))
        })?;
        let broker = service.mqtt_address().expect("the one listener is of plain TCP");
        let link = WeakLink::start(broker).await;
        let link = link.map_err(|error| Failure(format!("The link to the barrier can't start: {error}.")))?;
        Ok((Arc::new(link), Tideway::start(broker, &passwords)))
    }

    async fn stop(self) {
        self.fleet.stop().await;
        self.service.stop().await;
    }
}

/// The stand-in for whoever is told of alerts, and how it is reached.
struct Told {
    servers: StandIn,
    notices: NoticeSettings,
}

/// Starts the stand-in. Its secrets, and where its hook is, stay the same from one start to the next.
async fn begin_stand_in(data: &Path) -> Result<Told, Failure> {
    let folder = data.join("stand-in");
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be used: {error}. Use another folder with --data DIR.", folder.display()))
    };
    // Others pass through the data folder, and nothing more.
    std::fs::DirBuilder::new().recursive(true).mode(0o711).create(data).map_err(wrong)?;
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(wrong)?;
    let kept = |name: &str, make: &dyn Fn() -> String| {
        let file = folder.join(name);
        match std::fs::read_to_string(&file) {
            Ok(text) if !text.trim().is_empty() => Ok((text.trim().to_owned(), file)),
            _ => {
                let text = make();
                write_secret(&file, &text).map(|()| (text, file))
            }
        }
    };
    let (password, password_file) = kept("mail-password", &|| random_text(20)).map_err(wrong)?;
    let (secret, secret_file) = kept("hook-secret", &|| random_text(32)).map_err(wrong)?;
    let port = folder.join("hook-port");
    let last = std::fs::read_to_string(&port).ok().and_then(|text| text.trim().parse().ok());
    let servers = StandIn::start(&password, secret.as_bytes(), last.unwrap_or(0)).await;
    let servers = servers.map_err(|why| Failure(format!("The stand-in for mail and hooks can't start: {why}.")))?;
    write_secret(&port, &servers.hook.port().to_string()).map_err(wrong)?;
    let authority = folder.join("authority.pem");
    write_secret(&authority, &servers.authority).map_err(wrong)?;
    let mail = MailServer {
        server: servers.mail.ip().to_string(),
        port: Some(servers.mail.port()),
        security: Security::Starttls,
        user: Some(stand_in::USER.into()),
        password_file: Some(password_file),
        from: "Moorfall <moorfall@harrowmere.example>".into(),
        authority: Some(authority.clone()),
    };
    let notices = NoticeSettings {
        mail: Some(mail),
        hook_secrets: BTreeMap::from([("duty-desk".to_owned(), secret_file)]),
        hook_authority: Some(authority),
        private_addresses: true,
    };
    Ok(Told { servers, notices })
}

fn write_secret(file: &Path, text: &str) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.create(true).truncate(true).write(true).mode(0o600).open(file)?.write_all(text.as_bytes())
}

fn password_file(folder: &Path, name: &str) -> PathBuf {
    folder.join("passwords").join(name)
}

/// Makes the identities, and then the design, whose proofs are about them.
async fn prepare(
    service: &Service,
    seed: u64,
    (hook, tideway): (u16, u16),
) -> Result<BTreeMap<String, String>, Failure> {
    let passwords = make_identities(service, moorfall_demo::identities()).await?;
    let files = moorfall_demo::blueprint(hook, tideway);
    let applied = service.apply_blueprint(files, "demo", "The catchment as the demo describes it").await;
    applied.map_err(|why| Failure(format!("The blueprint of the catchment can't be applied:\n{why}")))?;
    make_up_past(service, seed).await?;
    let (name, setup) = moorfall_demo::DESK;
    service.offer_desk_setup(name, &serde_json::from_str(setup)?).await?;
    Ok(passwords)
}

/// At the first start there is a week to look at.
async fn make_up_past(service: &Service, seed: u64) -> Result<(), Failure> {
    let now = OffsetDateTime::now_utc();
    let minute = now - time::Duration::nanoseconds((now.unix_timestamp_nanos() % 60_000_000_000) as i64);
    let hour = f64::from(minute.hour()) + f64::from(minute.minute()) / 60.0;
    let past = moorfall_demo::past::past(seed, hour);
    let dated = past.map(|one| (minute - time::Duration::minutes(one.ago), one.values));
    Ok(service.make_up_history(dated).await?)
}

/// Everyone gets an identity; secrets are made at the first start and kept for the next.
async fn make_identities(
    service: &Service,
    identities: Vec<DemoIdentity>,
) -> Result<BTreeMap<String, String>, Failure> {
    let folder = service.data_folder().path();
    let place = folder.join("passwords");
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be used: {error}. Use another folder with --data DIR.", place.display()))
    };
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&place).map_err(wrong)?;
    let mut passwords = BTreeMap::new();
    for identity in identities {
        let file = password_file(folder, &identity.name);
        let kept = std::fs::read_to_string(&file).ok().map(|text| text.trim().to_owned());
        let kept = kept.filter(|secret| !secret.is_empty() && service.has_password(&identity.name));
        let draft = IdentityDraft {
            certificates: None,
            attributes: identity.attributes,
            password: None,
            generate: kept.is_none(),
            enabled: true,
            note: identity.note,
            client_id: None,
        };
        let made = service.put_identity(&identity.name, draft).await?;
        if let Some(secret) = &made {
            write_secret(&file, secret).map_err(wrong)?;
        }
        passwords.insert(identity.name, made.or(kept).unwrap_or_default());
    }
    Ok(passwords)
}
