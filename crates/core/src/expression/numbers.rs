//! Whole numbers in sums: the language tells `100` from `100.0` and does not multiply one by the other, but the numbers of
//! JSON and of attributes are of one kind.

use cel::common::{
    ast::{Expr, IdedExpr, LiteralValue, operators},
    types::CelDouble,
};

/// The expression with such whole numbers as are written beside an operator of arithmetic turned into the other kind;
/// `None` if there are none.
pub(super) fn in_one_kind(root: &IdedExpr) -> Option<IdedExpr> {
    let mut turned = root.clone();
    turn(&mut turned, None).then_some(turned)
}

/// Gives whether something was turned. `counter` is what a loop counts in, which stays whole.
fn turn(node: &mut IdedExpr, counter: Option<&str>) -> bool {
    match &mut node.expr {
        Expr::Call(call) => {
            let counts = call.args.iter().any(|arg| matches!(&arg.expr, Expr::Ident(name) if Some(&**name) == counter));
            let is_sum = matches!(
                call.func_name.as_str(),
                operators::ADD
                    | operators::SUBSTRACT
                    | operators::MULTIPLY
                    | operators::DIVIDE
                    | operators::MODULO
                    | operators::NEGATE
            );
            let mut turned = call.target.as_deref_mut().is_some_and(|target| turn(target, counter));
            for arg in &mut call.args {
                turned |= turn(arg, counter);
                if is_sum
                    && !counts
                    && let Expr::Literal(LiteralValue::Int(whole)) = &arg.expr
                {
                    #[allow(clippy::cast_precision_loss, reason = "as a number of JSON has no more digits")]
                    let number = whole.into_inner() as f64;
                    arg.expr = Expr::Literal(LiteralValue::Double(CelDouble::from(number)));
                    turned = true;
                }
            }
            turned
        }
        Expr::Select(select) => turn(&mut select.operand, counter),
        Expr::List(list) => list.elements.iter_mut().fold(false, |turned, one| turn(one, counter) | turned),
        Expr::Comprehension(each) => {
            let counter = Some(each.accu_var.clone());
            let range = turn(&mut each.iter_range, counter.as_deref());
            range | turn(&mut each.loop_step, counter.as_deref())
        }
        Expr::Unspecified | Expr::Ident(_) | Expr::Literal(_) | Expr::Map(_) | Expr::Struct(_) => false,
    }
}
