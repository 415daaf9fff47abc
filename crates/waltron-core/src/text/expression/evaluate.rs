//! The worth of an expression, given what its names stand for.
//!
//! One evaluator serves checking, previewing and running, so that they cannot differ: before anything
//! runs, what is measured later is a [`Value::Range`] within its bounds or [`Value::Unknown`] of its
//! type, and so is what is made of it; while running, what did not come is [`Value::Missing`], and so
//! is what needs it.

use super::ast::{Binary, Event, Expr, ExprKind, Piece, Unary};
use super::functions::{FUNCTIONS, call};
use super::interval;
use super::value::{Measured, Missing, PhasorValue, Type, Value};
use crate::quantity::{Dimension, Quantity, Unit};
use crate::text::document::Problem;
use crate::text::name::nearest;
use crate::uncertainty::Estimate;
use num_complex::Complex64;
use std::ops::Range;

/// What the names of an expression stand for.
pub trait Names {
    /// The value of a dotted name.
    fn value(&self, path: &str) -> Option<Value>;

    /// All names there are, to suggest the nearest one.
    fn known(&self) -> Vec<String>;

    /// What a name means that has no value here, and how its value can be had.
    fn no_value(&self, _path: &str) -> Option<(String, String)> {
        None
    }

    /// A function that needs more than its arguments' values; `None` where there is none.
    fn call(
        &self,
        _name: &str,
        _args: &[Expr],
        _span: &Range<usize>,
    ) -> Option<Result<Value, Problem>> {
        None
    }

    /// The time between two events.
    ///
    /// # Errors
    /// Where events make no sense.
    fn interval(&self, _from: &Event, _to: &Event, span: &Range<usize>) -> Result<Value, Problem> {
        Err(Problem::new(span.clone(), "events are known in sequences only"))
    }
}

/// No names at all.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoNames;

impl Names for NoNames {
    fn value(&self, _path: &str) -> Option<Value> {
        None
    }
    fn known(&self) -> Vec<String> {
        Vec::new()
    }
}

/// Evaluates an expression.
///
/// # Errors
/// The first mistake: unknown names, kinds that do not fit, division by zero, what overflows.
pub fn evaluate(expr: &Expr, names: &dyn Names) -> Result<Value, Problem> {
    let span = || expr.span.clone();
    let value = match &expr.kind {
        ExprKind::Quantity { value, .. } => Value::Quantity(*value),
        ExprKind::Text(pieces) => text(pieces, names)?,
        ExprKind::Loop(fault_loop) => Value::Loop(*fault_loop),
        ExprKind::Name(name) => match name.as_str() {
            "true" => Value::Bool(true),
            "false" => Value::Bool(false),
            path => names.value(path).ok_or_else(|| unknown_name(path, span(), names))?,
        },
        ExprKind::Unary(op, inner) => unary(*op, evaluate(inner, names)?, span())?,
        ExprKind::Binary(op, left, right) => binary(
            *op,
            (evaluate(left, names)?, &left.span),
            (evaluate(right, names)?, &right.span),
            span(),
        )?,
        ExprKind::Call(name, args) => {
            if let Some(own) = names.call(name.as_str(), args, &expr.span) {
                own?
            } else if !FUNCTIONS.iter().any(|(f, _)| name == f) {
                let near = nearest(name.as_str(), FUNCTIONS.iter().map(|(f, _)| *f));
                return Err(Problem::new(span(), format!("there is no function `{name}`"))
                    .did_you_mean(near, || {
                        let all: Vec<&str> = FUNCTIONS.iter().map(|(f, _)| *f).collect();
                        format!("functions are {}", all.join(", "))
                    }));
            } else {
                let args: Vec<Value> =
                    args.iter().map(|a| evaluate(a, names)).collect::<Result<_, _>>()?;
                let exact = |args: &[Value]| {
                    call(name.as_str(), args)
                        .map_err(|why| Problem::new(span(), format!("`{name}` {why}")))
                };
                worked_out(&args, exact, |args, kind| interval::call(name.as_str(), args, kind))?
            }
        }
        ExprKind::List(items) => list(items, names)?,
        ExprKind::Interval(from, to) => names.interval(from, to, &expr.span)?,
    };
    let finite = match &value {
        Value::Quantity(q) => q.si.is_finite(),
        Value::Measured(m) => m.value.si.is_finite(),
        Value::Phasor(p) => p.is_finite(),
        Value::Phases(all) => all.iter().all(|p| p.is_finite()),
        _ => true,
    };
    if finite { Ok(value) } else { Err(Problem::new(span(), "this is too large to be a number")) }
}

fn unknown_name(path: &str, span: Range<usize>, names: &dyn Names) -> Problem {
    if let Some((what, help)) = names.no_value(path) {
        return Problem::new(span, what).help(help);
    }
    let problem = Problem::new(span, format!("nothing is called `{path}`"));
    let known = names.known();
    let near = nearest(path, known.iter().map(String::as_str));
    problem.did_you_mean(near, || {
        let owner = path.split_once('.').map(|(owner, _)| format!("{owner}."));
        let of_owner: Vec<&str> = known
            .iter()
            .filter(|k| owner.as_ref().is_none_or(|o| k.starts_with(o.as_str())))
            .map(String::as_str)
            .take(12)
            .collect();
        match (of_owner.is_empty(), Unit::nearest(path)) {
            (_, Some(unit)) => format!("a unit stands behind a number, such as `5 {unit}`"),
            (true, _) => "text stands in double quotes, other names in backquotes".to_owned(),
            (false, _) => format!("known here: {}", of_owner.join(", ")),
        }
    })
}

fn text(pieces: &[Piece], names: &dyn Names) -> Result<Value, Problem> {
    let mut out = String::new();
    for piece in pieces {
        match piece {
            Piece::Plain(plain) => out.push_str(plain),
            Piece::Value(expr) => out.push_str(&evaluate(expr, names)?.to_string()),
        }
    }
    Ok(Value::Text(out))
}

fn list(items: &[Expr], names: &dyn Names) -> Result<Value, Problem> {
    let mut values: Vec<Value> = Vec::with_capacity(items.len());
    for item in items {
        let value = evaluate(item, names)?;
        if let Some(first) = values.first()
            && first.kind() != value.kind()
            && ![first.kind(), value.kind()].contains(&Type::Any)
        {
            let message =
                format!("a list that begins with {} cannot hold {}", first.kind(), value.kind());
            return Err(Problem::new(item.span.clone(), message));
        }
        values.push(value);
    }
    Ok(Value::List(values))
}

/// What an operation on known values gives for values of which some are not quite known: the type of
/// an unknown one, the uncertainty of a measured one, the reason of one that is missing.
fn worked_out(
    operands: &[Value],
    exact: impl Fn(&[Value]) -> Result<Value, Problem>,
    bounds: impl Fn(&[Value], Type) -> Value,
) -> Result<Value, Problem> {
    fn sampled(value: &Value) -> Value {
        match value {
            Value::List(items) => Value::List(items.iter().map(sampled).collect()),
            Value::Measured(m) => Value::Quantity(m.value),
            Value::Unknown(_) | Value::Range(_) | Value::Bounded(..) | Value::Missing(_) => {
                value.kind().sample()
            }
            other => other.clone(),
        }
    }
    let missing = operands.iter().find_map(missing_in);
    let unknown = operands.iter().any(Value::is_unknown);
    if missing.is_some() || unknown {
        let samples: Vec<Value> = operands.iter().map(sampled).collect();
        let any = samples.iter().any(|s| matches!(s, Value::Unknown(_)));
        let kind = if any { Type::Any } else { exact(&samples)?.kind() };
        return Ok(match missing {
            Some(missing) => Value::missing(kind, missing.fails, missing.why.as_str()),
            None if kind == Type::Any => Value::Unknown(kind),
            None => bounds(operands, kind),
        });
    }
    let plain: Vec<Value> = operands.iter().map(sampled).collect();
    let result = exact(&plain)?;
    let measured: Vec<(usize, &Measured)> = operands
        .iter()
        .enumerate()
        .filter_map(|(i, v)| if let Value::Measured(m) = v { Some((i, m)) } else { None })
        .collect();
    let (Value::Quantity(value), false) = (&result, measured.is_empty()) else { return Ok(result) };
    // Moved by its uncertainty one way and the other, an operand moves the result; what several share moves it once.
    let mut estimate = Some(Estimate::exact(value.si));
    for (index, m) in measured {
        let at = |by: f64| {
            let mut shifted = plain.clone();
            shifted[index] = Quantity { si: m.value.si + by, ..m.value }.into();
            Some(exact(&shifted).ok().and_then(|v| v.quantity())?.si)
        };
        let own = m.estimate.as_ref().and_then(|own| {
            let u = own.expanded();
            let slope = if u > 0.0 { (at(u)? - at(-u)?) / (2.0 * u) } else { 0.0 };
            Some((own, slope))
        });
        estimate =
            estimate.zip(own).map(|(all, (own, slope))| all.joined(own, value.si, [1.0, slope]));
    }
    Ok(Value::Measured(Measured { value: *value, estimate }))
}

fn missing_in(value: &Value) -> Option<&Missing> {
    match value {
        Value::Missing(missing) => Some(missing),
        Value::List(items) => items.iter().find_map(missing_in),
        _ => None,
    }
}

fn unary(op: Unary, value: Value, span: Range<usize>) -> Result<Value, Problem> {
    let exact = |operands: &[Value]| unary_exact(op, &operands[0], span.clone());
    worked_out(&[value], exact, |operands, kind| match op {
        Unary::Minus => interval::negative(&operands[0], kind),
        Unary::Not => Value::later(kind),
    })
}

fn unary_exact(op: Unary, value: &Value, span: Range<usize>) -> Result<Value, Problem> {
    Ok(match (op, value) {
        (Unary::Minus, Value::Quantity(q)) => Quantity { si: -q.si, ..*q }.into(),
        (Unary::Minus, Value::Phasor(p)) => Value::Phasor(p.scaled(-1.0, p.dimension)),
        (Unary::Minus, Value::Phases(p)) => Value::Phases(p.map(|p| p.scaled(-1.0, p.dimension))),
        (Unary::Not, Value::Bool(b)) => Value::Bool(!b),
        (Unary::Minus, other) => {
            return Err(Problem::new(span, format!("there is no negative of {}", other.kind())));
        }
        (Unary::Not, other) => {
            return Err(Problem::new(
                span,
                format!("`not` takes a condition, not {}", other.kind()),
            ));
        }
    })
}

type Operand<'a> = (Value, &'a Range<usize>);

fn binary(
    op: Binary,
    left: Operand<'_>,
    right: Operand<'_>,
    span: Range<usize>,
) -> Result<Value, Problem> {
    // One side may decide alone, whatever is not known of the other.
    if let Some(decides) = [(Binary::And, false), (Binary::Or, true)]
        .into_iter()
        .find_map(|(of, value)| (op == of).then_some(Value::Bool(value)))
        && (left.0 == decides || right.0 == decides)
        && [left.0.kind(), right.0.kind()].iter().all(|k| matches!(k, Type::Bool | Type::Any))
    {
        return Ok(decides);
    }
    if op == Binary::Divide && !left.0.kind().is_any() && magnitude(&right.0) == Some(0.0) {
        return Err(Problem::new(right.1.clone(), "division by zero"));
    }
    let exact = |operands: &[Value]| {
        let sides = ((operands[0].clone(), left.1), (operands[1].clone(), right.1));
        binary_exact(op, sides.0, sides.1, span.clone())
    };
    let operands = [left.0.clone(), right.0.clone()];
    let any = operands.iter().any(|v| v.kind().is_any()) && op.compares();
    if any && !operands.iter().any(|v| matches!(v, Value::Missing(_))) {
        return Ok(Value::Unknown(Type::Bool));
    }
    worked_out(&operands, exact, |operands, kind| {
        interval::binary(op, &operands[0], &operands[1], kind)
    })
}

fn binary_exact(
    op: Binary,
    left: Operand<'_>,
    right: Operand<'_>,
    span: Range<usize>,
) -> Result<Value, Problem> {
    let ((left, _), (right, right_span)) = (left, right);
    let misfit = || {
        let (a, b) = (left.kind(), right.kind());
        let message = match op {
            Binary::Add => format!("{a} and {b} cannot be added"),
            Binary::Subtract => format!("{b} cannot be subtracted from {a}"),
            Binary::At => format!("`@` joins a magnitude with an angle, not {a} with {b}"),
            Binary::And | Binary::Or => {
                format!("`{}` joins two conditions, not {a} and {b}", op.sign())
            }
            Binary::Power => format!("{a} cannot be raised to {b}"),
            _ if op.compares() => format!("{a} cannot be compared with {b}"),
            _ => format!("`{}` does not go with {a} and {b}", op.sign()),
        };
        Problem::new(span.clone(), message)
    };
    if op == Binary::Divide && magnitude(&right) == Some(0.0) {
        return Err(Problem::new(right_span.clone(), "division by zero"));
    }
    if op.compares() {
        return compare(op, &left, &right).ok_or_else(misfit);
    }
    Ok(match (op, &left, &right) {
        (Binary::And, Value::Bool(a), Value::Bool(b)) => Value::Bool(*a && *b),
        (Binary::Or, Value::Bool(a), Value::Bool(b)) => Value::Bool(*a || *b),
        (Binary::At, Value::Quantity(q), Value::Quantity(a)) if a.dimension == Dimension::ANGLE => {
            let upright = PhasorValue { rms: 1.0, angle: a.si, dimension: q.dimension };
            Value::Phasor(upright.scaled(q.si, q.dimension))
        }
        (Binary::Power, Value::Quantity(a), Value::Quantity(b))
            if b.dimension == Dimension::NUMBER =>
        {
            power(*a, *b).map_err(|why| Problem::new(span.clone(), why))?
        }
        (Binary::Add | Binary::Subtract, a, b) => {
            let sign = if op == Binary::Add { 1.0 } else { -1.0 };
            add(a, b, sign).ok_or_else(misfit)?
        }
        (Binary::Multiply, a, b) => multiply(a, b, false).ok_or_else(misfit)?,
        (Binary::Divide, a, b) => multiply(a, b, true).ok_or_else(misfit)?,
        _ => return Err(misfit()),
    })
}

fn magnitude(value: &Value) -> Option<f64> {
    match value {
        Value::Quantity(q) => Some(q.si.abs()),
        Value::Measured(m) => Some(m.value.si.abs()),
        Value::Phasor(p) => Some(p.rms),
        _ => None,
    }
}

fn compare(op: Binary, left: &Value, right: &Value) -> Option<Value> {
    let ordering = match (left, right) {
        (Value::Quantity(a), Value::Quantity(b)) if a.dimension == b.dimension => {
            a.si.partial_cmp(&b.si)?
        }
        (Value::Text(a), Value::Text(b)) if matches!(op, Binary::Equal | Binary::NotEqual) => {
            a.cmp(b)
        }
        (Value::Bool(a), Value::Bool(b)) if matches!(op, Binary::Equal | Binary::NotEqual) => {
            a.cmp(b)
        }
        (Value::Loop(a), Value::Loop(b)) if matches!(op, Binary::Equal | Binary::NotEqual) => {
            a.cmp(b)
        }
        _ => return None,
    };
    Some(Value::Bool(match op {
        Binary::Less => ordering.is_lt(),
        Binary::LessEqual => ordering.is_le(),
        Binary::Greater => ordering.is_gt(),
        Binary::GreaterEqual => ordering.is_ge(),
        Binary::Equal => ordering.is_eq(),
        _ => ordering.is_ne(),
    }))
}

fn add(left: &Value, right: &Value, sign: f64) -> Option<Value> {
    let phasors = |a: &PhasorValue, b: &PhasorValue| {
        (a.dimension == b.dimension)
            .then(|| PhasorValue::of(a.complex() + b.complex() * sign, a.dimension))
    };
    Some(match (left, right) {
        (Value::Quantity(a), Value::Quantity(b)) if a.dimension == b.dimension => {
            Quantity { si: a.si + sign * b.si, ..*a }.into()
        }
        (Value::Phasor(a), Value::Phasor(b)) => Value::Phasor(phasors(a, b)?),
        (Value::Phases(a), Value::Phases(b)) => {
            Value::Phases([phasors(&a[0], &b[0])?, phasors(&a[1], &b[1])?, phasors(&a[2], &b[2])?])
        }
        _ => return None,
    })
}

/// The product, or the quotient where `divide`.
fn multiply(left: &Value, right: &Value, divide: bool) -> Option<Value> {
    let dimension = |a: Dimension, b: Dimension| if divide { a.per(b) } else { a.times(b) };
    let factor = |b: f64| if divide { 1.0 / b } else { b };
    Some(match (left, right) {
        (Value::Quantity(a), Value::Quantity(b)) => {
            let si = if divide { a.si / b.si } else { a.si * b.si };
            Quantity { si, dimension: dimension(a.dimension, b.dimension) }.into()
        }
        (Value::Phasor(p), Value::Quantity(q)) => {
            Value::Phasor(p.scaled(factor(q.si), dimension(p.dimension, q.dimension)))
        }
        (Value::Phases(p), Value::Quantity(q)) => {
            Value::Phases(p.map(|p| p.scaled(factor(q.si), dimension(p.dimension, q.dimension))))
        }
        (Value::Quantity(_), Value::Phasor(_) | Value::Phases(_)) if !divide => {
            multiply(right, left, false)?
        }
        (Value::Quantity(q), Value::Phasor(p)) => {
            let quotient = Complex64::from(q.si) / p.complex();
            Value::Phasor(PhasorValue::of(quotient, q.dimension.per(p.dimension)))
        }
        (Value::Phasor(a), Value::Phasor(b)) => {
            let d = dimension(a.dimension, b.dimension);
            let c = if divide { a.complex() / b.complex() } else { a.complex() * b.complex() };
            Value::Phasor(PhasorValue::of(c, d))
        }
        _ => return None,
    })
}

fn power(base: Quantity, exponent: Quantity) -> Result<Value, String> {
    let si = base.si.powf(exponent.si);
    if !si.is_finite() {
        return Err(format!("{base} raised to {exponent} has no value"));
    }
    if base.dimension == Dimension::NUMBER {
        return Ok(Value::number(si));
    }
    if exponent.si.fract() != 0.0 || exponent.si.abs() > 8.0 {
        return Err(format!("{} can be raised to small whole numbers only", base.dimension));
    }
    let n = exponent.si as i8;
    let [a, v, s, r, k] = base.dimension.exponents().map(|e| e.saturating_mul(n));
    Ok(Quantity { si, dimension: Dimension::new(a, v, s, r, k) }.into())
}

/// Evaluates to a quantity of one dimension; `None` where it is not known yet.
///
/// # Errors
/// As [`evaluate`], where the value is of another kind, and where it is missing.
pub fn quantity(
    expr: &Expr,
    wanted: Dimension,
    names: &dyn Names,
) -> Result<Option<Quantity>, Problem> {
    match evaluate(expr, names)? {
        Value::Unknown(Type::Any) => Ok(None),
        value if value.kind() != Type::Quantity(wanted) && !value.kind().is_any() => {
            Err(wrong_kind(expr, &value.kind(), wanted))
        }
        Value::Missing(missing) => Err(not_there(expr, &missing)),
        value => Ok(value.quantity()),
    }
}

/// The complaint about a value that is not there.
pub fn not_there(expr: &Expr, missing: &Missing) -> Problem {
    let problem = Problem::new(expr.span.clone(), missing.why.clone());
    Problem { fails: missing.fails, ..problem }
}

/// The complaint about a value of another kind than wanted.
pub fn wrong_kind(expr: &Expr, found: &Type, wanted: Dimension) -> Problem {
    let bare = matches!(expr.kind, ExprKind::Quantity { value, percent: false } if value.dimension == Dimension::NUMBER);
    let message = if bare && wanted != Dimension::NUMBER {
        format!("this has no unit; expected {wanted}")
    } else {
        format!("this is {found}, but {wanted} is wanted here")
    };
    Problem::new(expr.span.clone(), message)
        .help(format!("write it like {}", Unit::examples(wanted)))
}
