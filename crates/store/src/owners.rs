//! Who owns topics.

use moorfall_core::{
    Time,
    owned::{Claim, Kept},
};
use moorfall_wire::TopicName;

use crate::{Store, StoreError};

impl Store {
    /// All owners that are known.
    pub async fn owners(&self) -> Result<Vec<Kept>, StoreError> {
        let rows: Vec<(String, String, String, Option<f64>, i64)> =
            sqlx::query_as("SELECT topic, client_id, identity, strength, since FROM owner")
                .fetch_all(&self.pool)
                .await?;
        let kept = |(topic, client_id, identity, strength, since): (String, String, String, Option<f64>, i64)| {
            // What was a topic when it was written is one still.
            let topic = TopicName::new(topic).ok()?;
            let claim = Claim { client_id: client_id.into(), identity: identity.into(), strength };
            Some(Kept { topic, owner: Some((claim, Time::from_micros(since.unsigned_abs()))) })
        };
        Ok(rows.into_iter().filter_map(kept).collect())
    }

    /// Keeps who owns these topics, each of which is there once.
    pub async fn put_owners(&self, kept: &[Kept]) -> Result<(), StoreError> {
        let mut change = self.pool.begin().await?;
        let gone: Vec<&str> = kept.iter().filter(|kept| kept.owner.is_none()).map(|kept| &*kept.topic).collect();
        sqlx::query("DELETE FROM owner WHERE topic = ANY($1)").bind(gone).execute(&mut *change).await?;
        let owned: Vec<(&str, &Claim, i64)> = kept
            .iter()
            .filter_map(|kept| {
                let (claim, since) = kept.owner.as_ref()?;
                Some((&*kept.topic, claim, i64::try_from(since.as_micros()).unwrap_or(i64::MAX)))
            })
            .collect();
        let statement = "INSERT INTO owner (topic, client_id, identity, strength, since) \
             SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::float8[], $5::bigint[]) \
             ON CONFLICT (topic) DO UPDATE SET client_id = EXCLUDED.client_id, identity = EXCLUDED.identity, \
             strength = EXCLUDED.strength, since = EXCLUDED.since";
        sqlx::query(statement)
            .bind(owned.iter().map(|(topic, ..)| *topic).collect::<Vec<_>>())
            .bind(owned.iter().map(|(_, claim, _)| &*claim.client_id).collect::<Vec<_>>())
            .bind(owned.iter().map(|(_, claim, _)| &*claim.identity).collect::<Vec<_>>())
            .bind(owned.iter().map(|(_, claim, _)| claim.strength).collect::<Vec<_>>())
            .bind(owned.iter().map(|(.., since)| *since).collect::<Vec<_>>())
            .execute(&mut *change)
            .await?;
        change.commit().await?;
        Ok(())
    }
}
