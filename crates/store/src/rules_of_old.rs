//! Stored blueprints of earlier versions: there a rule said `effect = "deny"` where it says `never` now.

use serde_json::Value;
use sqlx::PgPool;
use toml_edit::{DocumentMut, Item, TableLike};

/// The migration before which revisions were written in the old way.
const SINCE: i64 = 12;

/// Whether the revisions of this database were written in the old way: to be asked before migrations are run.
pub(crate) async fn are_old(pool: &PgPool) -> sqlx::Result<bool> {
    let known: Option<String> =
        sqlx::query_scalar("SELECT to_regclass('_sqlx_migrations')::text").fetch_one(pool).await?;
    if known.is_none() {
        return Ok(false);
    }
    let last: Option<i64> = sqlx::query_scalar("SELECT max(version) FROM _sqlx_migrations").fetch_one(pool).await?;
    Ok(last.is_some_and(|last| last < SINCE))
}

/// Writes them in the new way.
pub(crate) async fn renew(pool: &PgPool) -> sqlx::Result<()> {
    let revisions: Vec<(i64, Value)> = sqlx::query_as("SELECT number, files FROM revision").fetch_all(pool).await?;
    for (number, mut files) in revisions {
        let texts = files.as_array_mut().into_iter().flatten().filter_map(|file| file.get_mut("text"));
        for text in texts {
            if let Some(renewed) = text.as_str().and_then(renewed) {
                *text = renewed.into();
            }
        }
        sqlx::query("UPDATE revision SET files = $2 WHERE number = $1").bind(number).bind(files).execute(pool).await?;
    }
    Ok(())
}

/// The text with `may` and `never` in its rules; comments and order stay. `None` if it is no TOML.
fn renewed(text: &str) -> Option<String> {
    let mut document: DocumentMut = text.parse().ok()?;
    match document.get_mut("rules") {
        Some(Item::ArrayOfTables(rules)) => rules.iter_mut().for_each(|rule| renew_rule(rule)),
        Some(Item::Value(toml_edit::Value::Array(rules))) => {
            rules.iter_mut().filter_map(toml_edit::Value::as_inline_table_mut).for_each(|rule| renew_rule(rule));
        }
        _ => {}
    }
    Some(document.to_string())
}

fn renew_rule(rule: &mut dyn TableLike) {
    let Some(effect) = rule.remove("effect") else { return };
    if effect.as_str() != Some("deny") {
        return;
    }
    // In its place: the keys behind it go out and in again.
    let keys: Vec<String> = rule.iter().map(|(key, _)| key.to_owned()).collect();
    for key in keys {
        if let Some(item) = rule.remove(&key) {
            rule.insert(if key == "may" { "never" } else { &key }, item);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_that_denied_say_never_and_nothing_else_changes() {
        let old = "name = \"harrowmere\"\n\n# Who may.\n[[rules]]\nname = \"auditor-never-writes\"\neffect = \"deny\"\n\
                   who = { identity = \"auditor\" }\nmay = [\"publish\"]\ntopics = [\"#\"]\n\n[[rules]]\nname = \
                   \"all\"\n\
                   effect = \"allow\"\nwho = \"everyone\"\nmay = [\"subscribe\"]\ntopics = [\"harrowmere/#\"]\n";
        let new = "name = \"harrowmere\"\n\n# Who may.\n[[rules]]\nname = \"auditor-never-writes\"\n\
                   who = { identity = \"auditor\" }\nnever = [\"publish\"]\ntopics = [\"#\"]\n\n[[rules]]\nname = \
                   \"all\"\n\
                   who = \"everyone\"\nmay = [\"subscribe\"]\ntopics = [\"harrowmere/#\"]\n";
        assert_eq!(renewed(old).unwrap(), new);
        assert_eq!(renewed(new).unwrap(), new);
        let inline = renewed("rules = [{ name = \"a\", effect = \"deny\", may = [\"publish\"] }]\n").unwrap();
        assert!(inline.contains("never = [\"publish\"]") && !inline.contains("effect"), "{inline}");
        assert_eq!(renewed("= none"), None);
    }
}
