//! How the tables came to be what they are, step by step. They are named here one by one, so that nobody who builds this
//! has to build the database's driver twice, once for a macro that reads a folder.

use sqlx::{
    SqlSafeStr,
    migrate::{Migration, MigrationType, Migrator},
};

macro_rules! step {
    ($name:literal) => {
        ($name, include_str!(concat!("../migrations/", $name, ".sql")))
    };
}

/// The name of each, which begins with its number, and what it does.
const STEPS: &[(&str, &str)] = &[
    step!("0001_first"),
    step!("0002_sessions"),
    step!("0003_retained_due"),
    step!("0004_revisions"),
    step!("0005_people"),
    step!("0006_tokens"),
    step!("0007_client_id"),
    step!("0008_certificates"),
    step!("0009_bench"),
    step!("0010_hold"),
    step!("0011_desk"),
    step!("0012_words"),
    step!("0013_measures"),
    step!("0014_history"),
    step!("0015_event"),
    step!("0016_alert"),
    step!("0017_ban"),
    step!("0018_bridge"),
    step!("0019_derived"),
    step!("0020_condition"),
    step!("0021_owner"),
];

/// All of them.
pub(crate) fn migrator() -> Migrator {
    let steps = STEPS.iter().map(|(name, sql)| {
        let (number, words) = name.split_once('_').unwrap_or((name, ""));
        let version = number.parse().unwrap_or_default();
        Migration::new(version, words.into(), MigrationType::Simple, sql.into_sql_str(), false)
    });
    Migrator::with_migrations(steps.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_step_of_the_folder_is_there_once() {
        let folder = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).expect("the folder");
        let name = |file: std::io::Result<std::fs::DirEntry>| file.expect("a file").file_name().into_string();
        let mut files: Vec<String> = folder.map(|file| name(file).expect("a name")).collect();
        files.sort();
        let named: Vec<String> = STEPS.iter().map(|(name, _)| format!("{name}.sql")).collect();
        assert_eq!(named, files);
        let versions: Vec<i64> = migrator().iter().map(|step| step.version).collect();
        assert_eq!(versions, (1..=STEPS.len() as i64).collect::<Vec<_>>());
    }
}
