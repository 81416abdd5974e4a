//! How figures are printed.

use std::fmt::Display;

use parking_lot::Mutex;

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

/// What was measured, for the table at the end.
static JUDGED: Mutex<Vec<[String; 4]>> = Mutex::new(Vec::new());

/// Whether a figure is within its goal, in a word; it has a line in the table.
pub(crate) fn judged(name: &str, figure: impl Display, goal: impl Display, within: bool) -> &'static str {
    let word = if within { "within" } else { "MISSED" };
    JUDGED.lock().push([name.to_owned(), figure.to_string(), goal.to_string(), word.to_owned()]);
    word
}

/// Prints all figures beside their goals, and on what machine they were measured.
pub(crate) fn print_table() {
    let judged = JUDGED.lock();
    let line =
        |name: &str, figure: &str, goal: &str, word: &str| println!("{name:<24} {figure:>22}  {goal:<22} {word}");
    line("bench", "measured", "wanted", "");
    judged.iter().for_each(|[name, figure, goal, word]| line(name, figure, goal, word));
    println!("\nmeasured on {}", machine());
}

/// What the machine says of itself.
fn machine() -> String {
    let read = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let cpus = read("/proc/cpuinfo");
    let model = cpus.lines().find_map(|line| line.strip_prefix("model name")).unwrap_or_default();
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let kernel = read("/proc/sys/kernel/osrelease");
    format!("{cores} cores of {}, Linux {}", model.trim_start_matches([' ', '\t', ':']), kernel.trim())
}
