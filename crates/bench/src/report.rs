//! How figures are printed.

/// The least, the middle and the greatest of some figures.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Spread {
    pub(crate) least: f64,
    pub(crate) middle: f64,
    pub(crate) most: f64,
}

impl Spread {
    pub(crate) fn of(figures: impl IntoIterator<Item = f64>) -> Self {
        let mut figures: Vec<f64> = figures.into_iter().collect();
        figures.sort_by(f64::total_cmp);
        let at = |index: usize| figures.get(index).copied().unwrap_or(f64::NAN);
        Self { least: at(0), middle: at(figures.len() / 2), most: at(figures.len().saturating_sub(1)) }
    }
}

impl std::fmt::Display for Spread {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:.2} / {:.2} / {:.2}", self.least, self.middle, self.most)
    }
}

/// A number with a sign between thousands.
pub(crate) fn count(number: f64) -> String {
    let digits = format!("{number:.0}");
    let mut text = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// Whether a figure is within its goal, in a word.
pub(crate) fn verdict(within: bool) -> &'static str {
    if within { "within" } else { "MISSED" }
}
