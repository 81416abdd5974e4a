//! What is measured: the catalogue, values of one moment, rates and moving averages.
//!
//! A measure stands in one place, the table in [`catalogue`]: counters, readings, the interface and its description, the
//! topics of the service, the page for machines, history, alerts and `docs/MEASURES.md` are made from it, so that another
//! one is another line there.

mod averages;
mod busy;
mod catalogue;
mod labels;
mod space_saving;
mod values;

pub use averages::{Averages, WINDOWS};
pub use busy::{BusyIn, BusyOf};
pub use catalogue::{COUNTERS, GAUGES, Kept, Kind, Measure, SERIES, Series, Unit};
pub use labels::{By, Label, Quantile};
pub use space_saving::{Counted, SpaceSaving};
pub use values::{Rates, Totals, Values};
