//! From a row to a struct.

/// Reads a struct from a row whose columns have the names of its fields.
macro_rules! from_row {
    ($record:ident { $($field:ident),+ $(,)? }) => {
        impl<'r> sqlx::FromRow<'r, sqlx::postgres::PgRow> for $record {
            fn from_row(row: &'r sqlx::postgres::PgRow) -> sqlx::Result<Self> {
                use sqlx::Row;
                Ok(Self { $($field: row.try_get(stringify!($field))?),+ })
            }
        }
    };
}

pub(crate) use from_row;
