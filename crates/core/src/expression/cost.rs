//! What an expression can cost at most, told before it is ever evaluated.
//!
//! Whoever may check a blueprint may write an expression, so one that doubles a text or loops within a loop would be
//! work and memory without bound. The evaluator gives no budget; instead what can't be bounded by looking at the
//! expression is refused: loops within loops, names that hide others, `+` on texts in a loop, patterns that are not
//! written out. What is left costs no more than [`STEPS`], on values of the sizes below.

use std::collections::HashSet;

use cel::common::ast::{CallExpr, ComprehensionExpr, EntryExpr, Expr, IdedExpr, LiteralValue, operators};
use regex::RegexBuilder;

/// Steps that one evaluation may take; each takes well below a microsecond.
const STEPS: u64 = 20_000;

/// Values of a list or map that is not written out in the expression: of attributes, levels, a payload. A longer one is
/// not looked through; see [`super::Condition`].
pub(super) const ITEMS: u64 = 500;

/// Times that texts or lists may be put together.
const SUMS: u32 = 16;

/// Patterns that are matched against.
const PATTERNS: u32 = 8;

/// The size of a compiled pattern, bytes.
const PATTERN_SIZE: usize = 64 * 1024;

/// What a pattern costs, steps: it is made ready each time.
const PATTERN_STEPS: u64 = 200;

/// Why an expression costs too much; and the node.
pub(super) struct TooDear {
    pub(super) id: u64,
    pub(super) words: String,
}

/// Looks through an expression; gives the names that its loops give to what they go through, and the steps that it can take.
pub(super) fn check(root: &IdedExpr, names: &[&str]) -> Result<(HashSet<String>, u64), TooDear> {
    let mut walk = Walk { names, loops: HashSet::new(), sums: 0, patterns: 0 };
    let steps = walk.cost(root, None)?;
    if steps > STEPS {
        let words = format!("the expression can take {steps} steps each time; the limit is {STEPS}");
        return Err(TooDear { id: root.id, words });
    }
    Ok((walk.loops, steps))
}

struct Walk<'a> {
    names: &'a [&'a str],
    loops: HashSet<String>,
    sums: u32,
    patterns: u32,
}

/// The loop that an expression stands in: the name of its accumulator, which the language makes up.
type Loop<'a> = Option<&'a str>;

fn too_dear<T>(node: &IdedExpr, words: impl Into<String>) -> Result<T, TooDear> {
    Err(TooDear { id: node.id, words: words.into() })
}

impl Walk<'_> {
    fn cost(&mut self, node: &IdedExpr, within: Loop<'_>) -> Result<u64, TooDear> {
        let parts = match &node.expr {
            Expr::Unspecified | Expr::Ident(_) | Expr::Literal(_) => 0,
            Expr::Select(select) => self.cost(&select.operand, within)?,
            Expr::List(list) => self.sum(list.elements.iter(), within)?,
            Expr::Map(map) => self.entries(map.entries.iter().map(|entry| &entry.expr), within)?,
            Expr::Struct(made) => self.entries(made.entries.iter().map(|entry| &entry.expr), within)?,
            Expr::Call(call) => self.call(node, call, within)?,
            Expr::Comprehension(_) if within.is_some() => {
                return too_dear(
                    node,
                    "a loop inside a loop is not allowed: all(), exists(), map() and filter() go through a list",
                );
            }
            Expr::Comprehension(each) => self.each(node, each)?,
        };
        Ok(1_u64.saturating_add(parts))
    }

    fn sum<'a>(&mut self, nodes: impl Iterator<Item = &'a IdedExpr>, within: Loop<'_>) -> Result<u64, TooDear> {
        nodes.into_iter().try_fold(0_u64, |sum, node| Ok(sum.saturating_add(self.cost(node, within)?)))
    }

    fn entries<'a>(&mut self, entries: impl Iterator<Item = &'a EntryExpr>, within: Loop<'_>) -> Result<u64, TooDear> {
        let mut sum = 0_u64;
        for entry in entries {
            sum = sum.saturating_add(match entry {
                EntryExpr::StructField(field) => self.cost(&field.value, within)?,
                EntryExpr::MapEntry(entry) => {
                    self.cost(&entry.key, within)?.saturating_add(self.cost(&entry.value, within)?)
                }
            });
        }
        Ok(sum)
    }

    fn call(&mut self, node: &IdedExpr, call: &CallExpr, within: Loop<'_>) -> Result<u64, TooDear> {
        let mut own = 0;
        match call.func_name.as_str() {
            operators::ADD if !call.args.iter().any(is_number) => match within {
                Some(accumulator) if call.args.first().is_some_and(|first| is_name(first, accumulator)) => {}
                Some(_) => {
                    return too_dear(node, "`+` in a loop is only for numbers: write one of them out, as in `x + 1`");
                }
                None => {
                    self.sums += 1;
                    if self.sums > SUMS {
                        return too_dear(node, format!("`+` appears more than {SUMS} times"));
                    }
                }
            },
            "matches" => {
                if within.is_some() {
                    return too_dear(
                        node,
                        "matches() is not allowed in a loop; use startsWith(), endsWith() or contains()",
                    );
                }
                self.patterns += 1;
                if self.patterns > PATTERNS {
                    return too_dear(node, format!("matches() appears more than {PATTERNS} times"));
                }
                check_pattern(node, call)?;
                own = PATTERN_STEPS;
            }
            _ => {}
        }
        let target = call.target.as_deref().map_or(Ok(0), |target| self.cost(target, within))?;
        Ok(own.saturating_add(target).saturating_add(self.sum(call.args.iter(), within)?))
    }

    fn each(&mut self, node: &IdedExpr, each: &ComprehensionExpr) -> Result<u64, TooDear> {
        let given: Vec<&str> =
            [Some(&each.iter_var), each.iter_var2.as_ref()].into_iter().flatten().map(String::as_str).collect();
        let distinct: HashSet<&str> = given.iter().copied().collect();
        if let Some(known) = given.iter().find(|name| self.names.contains(name)) {
            return too_dear(node, format!("`{known}` already has a meaning; use another name for the loop variable"));
        }
        if distinct.len() < given.len() {
            return too_dear(node, format!("`{}` is used twice; use different names for the loop variables", given[0]));
        }
        self.loops.extend(given.iter().map(|name| (*name).to_owned()));
        let items = match &each.iter_range.expr {
            Expr::List(list) => list.elements.len() as u64,
            Expr::Map(map) => map.entries.len() as u64,
            _ => ITEMS,
        };
        let inside = Some(each.accu_var.as_str());
        let range = self.cost(&each.iter_range, inside)?;
        let once =
            range.saturating_add(self.cost(&each.accu_init, inside)?).saturating_add(self.cost(&each.result, inside)?);
        let step = self.cost(&each.loop_cond, inside)?.saturating_add(self.cost(&each.loop_step, inside)?);
        Ok(once.saturating_add(items.saturating_mul(step)))
    }
}

fn is_name(node: &IdedExpr, name: &str) -> bool {
    matches!(&node.expr, Expr::Ident(ident) if ident == name)
}

/// Whether it can be nothing but a number.
fn is_number(node: &IdedExpr) -> bool {
    match &node.expr {
        Expr::Literal(LiteralValue::Int(_) | LiteralValue::UInt(_) | LiteralValue::Double(_)) => true,
        Expr::Call(call) => matches!(
            call.func_name.as_str(),
            operators::SUBSTRACT
                | operators::MULTIPLY
                | operators::DIVIDE
                | operators::MODULO
                | operators::NEGATE
                | "size"
        ),
        _ => false,
    }
}

/// A pattern is written out, and is not large when it is made ready.
fn check_pattern(node: &IdedExpr, call: &CallExpr) -> Result<(), TooDear> {
    let Some(Expr::Literal(LiteralValue::String(pattern))) = call.args.last().map(|last| &last.expr) else {
        return too_dear(node, "matches() takes only a literal pattern, as in matches('^gauge-')");
    };
    let pattern = pattern.inner();
    match RegexBuilder::new(pattern).size_limit(PATTERN_SIZE).dfa_size_limit(PATTERN_SIZE).build() {
        Ok(_) => Ok(()),
        Err(regex::Error::CompiledTooBig(_)) => {
            too_dear(node, format!("the compiled pattern is larger than {PATTERN_SIZE} bytes; write a shorter one"))
        }
        Err(error) => {
            let words = error.to_string();
            let last = words.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
            too_dear(node, format!("invalid pattern: {last}"))
        }
    }
}
