//! What is known of topics that are made of others.

use moorfall_core::derived::Kept;

use crate::{Store, StoreError};

impl Store {
    /// All that is known of them.
    pub async fn derived(&self) -> Result<Vec<Kept>, StoreError> {
        let rows: Vec<(String, String, String, String)> =
            sqlx::query_as("SELECT name, says, topic, state FROM derived").fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(|(name, says, topic, state)| Kept { name, says, topic, state }).collect())
    }

    /// Keeps what is known of some of them; of one that is there twice the last.
    pub async fn put_derived(&self, kept: &[Kept]) -> Result<(), StoreError> {
        let statement = "INSERT INTO derived (name, topic, says, state) \
             SELECT DISTINCT ON (name, topic) name, topic, says, state \
             FROM unnest($1::text[], $2::text[], $3::text[], $4::text[]) WITH ORDINALITY AS new (name, topic, says, state, place) \
             ORDER BY name, topic, place DESC \
             ON CONFLICT (name, topic) DO UPDATE SET says = EXCLUDED.says, state = EXCLUDED.state";
        let column = |of: fn(&Kept) -> &String| kept.iter().map(|one| of(one).clone()).collect::<Vec<String>>();
        sqlx::query(statement)
            .bind(column(|one| &one.name))
            .bind(column(|one| &one.topic))
            .bind(column(|one| &one.says))
            .bind(column(|one| &one.state))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// What is subscribed to for them.
    pub async fn derived_filters(&self) -> Result<Vec<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT filter FROM derived_filter").fetch_all(&self.pool).await?)
    }

    /// Notes what is subscribed to for them.
    pub async fn put_derived_filters(&self, filters: &[String]) -> Result<(), StoreError> {
        let mut change = self.pool.begin().await?;
        sqlx::query("DELETE FROM derived_filter WHERE filter <> ALL($1)").bind(filters).execute(&mut *change).await?;
        sqlx::query("INSERT INTO derived_filter SELECT unnest($1::text[]) ON CONFLICT DO NOTHING")
            .bind(filters)
            .execute(&mut *change)
            .await?;
        change.commit().await?;
        Ok(())
    }

    /// Forgets what belongs to none of these, by name and by what the design says of it.
    pub async fn keep_derived(&self, design: &[(String, String)]) -> Result<(), StoreError> {
        let (names, says): (Vec<&str>, Vec<&str>) =
            design.iter().map(|(name, says)| (name.as_str(), says.as_str())).unzip();
        let statement = "DELETE FROM derived WHERE NOT EXISTS \
             (SELECT FROM unnest($1::text[], $2::text[]) AS design (name, says) \
              WHERE design.name = derived.name AND design.says = derived.says)";
        sqlx::query(statement).bind(names).bind(says).execute(&self.pool).await?;
        Ok(())
    }
}
