//! The records against a real PostgreSQL, in a private cluster of the test's own.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{borrow::Cow, collections::BTreeMap, os::unix::fs::PermissionsExt, path::Path};

use moorfall_core::AttributeValue;
use moorfall_store::{Author, Deed, IdentityRow, PrivateCluster, PrivateDatabase, Resolution, Store};
use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use sqlx::{Executor, PgPool, migrate::Migrator, postgres::PgConnectOptions};
use tempfile::TempDir;
use time::{Duration, OffsetDateTime};

fn place() -> TempDir {
    // PostgreSQL may run as another user, who must be able to pass through.
    tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap()
}

fn by() -> Author {
    Author { person: "wren".into(), address: "127.0.0.1".into() }
}

fn deed() -> Deed {
    Deed::new("change", "thing", "one")
}

fn server(data: &Path) -> Option<String> {
    let file = std::fs::read_to_string(data.join("database/postmaster.pid")).ok()?;
    file.lines().next().map(str::to_owned)
}

/// Microseconds are what PostgreSQL keeps.
fn now() -> OffsetDateTime {
    let now = OffsetDateTime::now_utc();
    now.replace_microsecond(now.microsecond()).unwrap()
}

#[tokio::test]
async fn a_cluster_is_made_taken_over_and_stopped() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let first = server(place.path()).unwrap();
    // As after a crash of the service: the handle is gone, the server is not.
    drop(cluster);
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    assert_eq!(server(place.path()).unwrap(), first, "the running server is taken over");
    Store::open_private(&cluster).await.unwrap().ping().await.unwrap();
    cluster.stop().await;
    assert_eq!(server(place.path()), None);
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    assert_ne!(server(place.path()).unwrap(), first);
    cluster.stop().await;
}

#[tokio::test]
async fn a_server_that_ends_while_it_is_taken_over_is_started_again() {
    let place = place();
    let before = PrivateCluster::start(place.path()).await.unwrap();
    let pid = Pid::from_raw(server(place.path()).unwrap().parse().unwrap());
    // It takes connections and says nothing, like one that was killed and is not gone yet.
    kill(pid, Signal::SIGSTOP).unwrap();
    let database = PrivateDatabase::start(place.path()).await.unwrap();
    let (opened, ()) = tokio::join!(database.open(), async {
        tokio::task::yield_now().await;
        kill(pid, Signal::SIGKILL).unwrap();
    });
    opened.unwrap().ping().await.unwrap();
    assert!(!before.is_running(), "another one runs now");
    database.stop().await;
}

#[tokio::test]
async fn half_a_cluster_is_thrown_away_and_a_planted_socket_folder_refused() {
    let place = place();
    // What is left when the first start was killed in the middle.
    std::fs::create_dir(place.path().join("database.new")).unwrap();
    std::fs::write(place.path().join("database.new/half"), "").unwrap();
    PrivateCluster::start(place.path()).await.unwrap().stop().await;
    assert!(place.path().join("database/PG_VERSION").exists() && !place.path().join("database.new").exists());

    std::os::unix::fs::symlink("/tmp", place.path().join("socket")).unwrap();
    let error = PrivateCluster::start(place.path()).await.unwrap_err().to_string();
    assert!(error.contains("socket can't be written") && error.contains("belongs to another user"), "{error}");
    assert_eq!(server(place.path()), None);
}

#[tokio::test]
async fn records_come_back_as_they_were_written() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();

    let attributes: BTreeMap<String, AttributeValue> = [
        ("reach".to_owned(), AttributeValue::Text("gorge".into())),
        ("sensors".to_owned(), AttributeValue::Number(2.0)),
        ("gate".to_owned(), AttributeValue::Truth(true)),
    ]
    .into();
    let put = async |name, attributes, password_hash, enabled, note| {
        let row = IdentityRow {
            name,
            attributes,
            password_hash,
            enabled,
            note,
            client_id: Some("weir-1"),
            certificates: &[],
        };
        store.put_identities(&[row], &by(), |_| deed()).await.unwrap().remove(0)
    };
    put("kettle-weir", &attributes, Some("hash"), true, "a weir").await;
    let none = BTreeMap::new();
    let changed = put("kettle-weir", &none, None, false, "").await;
    assert_eq!(changed.password_hash.as_deref(), Some("hash"), "an unsaid password stays");
    assert!(!format!("{changed:?}").contains("hash"), "and is not shown");
    put("barrier", &attributes, None, true, "").await;
    let all = store.identities().await.unwrap();
    let names: Vec<&str> = all.iter().map(|identity| identity.name.as_str()).collect();
    assert_eq!((names, all[0].attributes.0.clone()), (vec!["barrier", "kettle-weir"], attributes));
    assert!(
        store.remove_identity("barrier", &by(), &deed()).await.unwrap()
            && !store.remove_identity("barrier", &by(), &deed()).await.unwrap()
    );

    let in_an_hour = OffsetDateTime::now_utc() + Duration::hours(1);
    let add = async |hash: &'static [u8], person, end| store.add_sign_in(hash, person, end, &by()).await.unwrap();
    let found = async |hash: &'static [u8]| {
        store.sign_ins().await.unwrap().into_iter().find(|signed_in| signed_in.token_hash == hash)
    };
    add(b"token", None, in_an_hour).await;
    add(b"ended", None, in_an_hour - Duration::hours(2)).await;
    assert!(matches!(found(b"token").await, Some(signed_in) if signed_in.person.is_none()));
    assert!(found(b"ended").await.is_none() && found(b"other").await.is_none());
    // A person's sign-in ends with the person, and with what they may do.
    assert!(
        store.put_person("wren", None, "watch", false, &by(), |_| deed()).await.unwrap().is_none(),
        "a new person needs a password"
    );
    store.put_person("wren", Some("hash"), "watch", false, &by(), |_| deed()).await.unwrap();
    add(b"hers", Some("wren"), in_an_hour).await;
    assert!(matches!(found(b"hers").await, Some(hers) if hers.role.as_deref() == Some("watch")));
    store.put_person("wren", None, "operate", true, &by(), |_| deed()).await.unwrap();
    assert!(found(b"hers").await.is_none());
    add(b"again", Some("wren"), in_an_hour).await;
    assert!(
        store.remove_person("wren", &by(), &deed()).await.unwrap()
            && !store.remove_person("wren", &by(), &deed()).await.unwrap()
    );
    assert!(found(b"again").await.is_none());
    store.remove_sign_in(b"token").await.unwrap();
    assert!(found(b"token").await.is_none());

    // Opening again finds the tables as they are.
    store.close().await;
    let again = Store::open_private(&cluster).await.unwrap();
    assert_eq!(again.identities().await.unwrap().len(), 1);
    again.close().await;
    cluster.stop().await;
}

#[tokio::test]
async fn authorities_and_what_certificates_are_known_by_are_kept() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    let marks = ["dns:kettle-weir.example".to_owned(), "subject:CN=a\\,b".to_owned()];
    let none = BTreeMap::new();
    let put = async |certificates: &[String]| {
        let row = IdentityRow {
            name: "kettle-weir",
            attributes: &none,
            password_hash: None,
            enabled: true,
            note: "",
            client_id: None,
            certificates,
        };
        store.put_identities(&[row], &by(), |_| deed()).await.unwrap();
        store.identities().await.unwrap().remove(0).certificates.0
    };
    assert_eq!(put(&marks).await, marks);
    assert_eq!(put(&[]).await, [""; 0], "they are what was put last");

    assert!(store.authorities().await.unwrap().is_empty());
    let added = store.add_authority("trust", "pem", &by(), |_| deed()).await.unwrap().unwrap();
    assert_eq!((added.name.as_str(), added.pem.as_str()), ("trust", "pem"));
    assert!(store.add_authority("trust", "other", &by(), |_| deed()).await.unwrap().is_none(), "a name stands for one");
    store.add_authority("county", "pem", &by(), |_| deed()).await.unwrap().unwrap();
    let names: Vec<String> = store.authorities().await.unwrap().into_iter().map(|one| one.name).collect();
    assert_eq!(names, ["county", "trust"]);
    assert!(
        store.remove_authority("trust", &by(), &deed()).await.unwrap()
            && !store.remove_authority("trust", &by(), &deed()).await.unwrap()
    );
}

#[tokio::test]
async fn the_service_s_role_reads_and_writes_rows_and_nothing_else() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    store.ping().await.unwrap();
    let socket = place.path().join("socket");
    let options =
        PgConnectOptions::new_without_pgpass().socket(socket).username("moorfall_service").database("moorfall");
    let role = PgPool::connect_with(options).await.unwrap();
    let statement = "SELECT usename::text FROM pg_stat_activity WHERE application_name = 'moorfall'";
    let users: Vec<String> = sqlx::query_scalar(statement).fetch_all(&role).await.unwrap();
    assert!(!users.is_empty() && users.iter().all(|user| user == "moorfall_service"), "{users:?}");
    for refused in [
        "DROP TABLE identity",
        "ALTER TABLE identity ADD COLUMN more text",
        "CREATE TABLE more (number int)",
        "CREATE ROLE more",
        "COPY identity TO PROGRAM 'cat'",
        "SELECT pg_read_file('pg_hba.conf')",
        "DELETE FROM _sqlx_migrations",
    ] {
        let error = role.execute(refused).await.unwrap_err();
        let code = error.as_database_error().and_then(|error| error.code().map(Cow::into_owned));
        assert_eq!(code.as_deref(), Some("42501"), "{refused}: {error}");
    }
    role.close().await;
    store.close().await;
    cluster.stop().await;
}

#[tokio::test]
async fn a_change_and_its_entry_are_made_together_or_not_at_all() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    store.add_authority("trust", "pem", &by(), |added| Deed::new("add", "authority", &*added.name)).await.unwrap();
    assert!(store.add_authority("trust", "other", &by(), |_| deed()).await.unwrap().is_none());
    assert!(!store.remove_authority("county", &by(), &deed()).await.unwrap());
    let audits = store.audits("", None, 10).await.unwrap();
    let told: Vec<_> = audits.iter().map(|audit| (&*audit.act, &*audit.name, &*audit.person)).collect();
    assert_eq!(told, [("add", "trust", "wren")], "what changes nothing is not noted");
    // No text of PostgreSQL holds U+0000: the entry can't be written, so nothing is changed.
    let impossible = Deed::new("remove", "authority", "\0");
    store.remove_authority("trust", &by(), &impossible).await.unwrap_err();
    store.add_authority("county", "pem", &by(), |_| impossible.clone()).await.unwrap_err();
    store.put_person("wren", Some("hash"), "own", true, &by(), |_| impossible.clone()).await.unwrap_err();
    let names: Vec<_> = store.authorities().await.unwrap().into_iter().map(|authority| authority.name).collect();
    assert_eq!((names, store.people().await.unwrap().len()), (vec!["trust".to_owned()], 0));
    store.close().await;
    cluster.stop().await;
}

/// What an earlier version wrote is read as what it meant.
#[tokio::test]
async fn records_of_earlier_versions_are_converted() {
    let place = place();
    let cluster = PrivateCluster::start(place.path()).await.unwrap();
    let options =
        PgConnectOptions::new_without_pgpass().socket(place.path().join("socket")).username("moorfall").port(5432);
    let maintenance = PgPool::connect_with(options.clone().database("postgres")).await.unwrap();
    maintenance.execute("CREATE DATABASE moorfall").await.unwrap();
    let old = PgPool::connect_with(options.database("moorfall")).await.unwrap();
    let folder = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations"));
    let mut then = Migrator::new(folder).await.unwrap();
    then.migrations = then.migrations.iter().filter(|one| one.version < 12).cloned().collect();
    then.run(&old).await.unwrap();
    let text =
        "[[rules]]\nname = \"no\"\neffect = \"deny\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"#\"]\n";
    let files = serde_json::json!([{ "name": "river.toml", "text": text }]);
    let revision = "INSERT INTO revision (number, author, message, files) VALUES (1, 'wren', '', $1)";
    sqlx::query(revision).bind(files).execute(&old).await.unwrap();
    old.execute(
        "INSERT INTO throughput_sample VALUES (60, now(), 60, 3, 7, 8, 9, 10);
         INSERT INTO desk_setup (name, panes, changed_by) VALUES ('gate', '[{\"topic\": \"a\", \"form\": \"json\"}]', 'wren');",
    )
    .await
    .unwrap();
    for _ in 0..2 {
        let store = Store::open_private(&cluster).await.unwrap();
        let revision = store.revision(1).await.unwrap().unwrap();
        let text = &revision.files[0].text;
        assert!(text.contains("never = [\"publish\"]") && !text.contains("effect"), "{text}");
        let (from, to) = (now() - Duration::hours(1), now() + Duration::hours(1));
        for (series, resolution, value) in [
            ("messages_in", Resolution::Minute, 7.0 / 60.0),
            ("bytes_out", Resolution::QuarterHour, 10.0 / 60.0),
            ("sessions_connected", Resolution::Minute, 3.0),
        ] {
            let points = store.history(series, resolution, (from, to), resolution.seconds()).await.unwrap();
            assert_eq!(points.len(), 1, "{series}");
            assert!((points[0].mean - value).abs() < 1e-6, "{series}: {points:?}");
        }
        let setups = store.desk_setups().await.unwrap();
        assert_eq!(setups[0].clients, serde_json::json!([{ "topic": "a", "encoding": "json" }]));
        store.close().await;
    }
    cluster.stop().await;
}
