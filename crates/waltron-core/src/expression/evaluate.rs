//! The worth of an expression, given what its names stand for.
//!
//! One evaluator serves three purposes: checking before anything runs (names that are measured
//! later are [`Value::Unknown`] of their type, and what is made of them is too), previewing, and
//! running. So what is checked and what is run cannot differ.

use super::ast::{Binary, Event, Expr, ExprKind, Piece, Unary};
use super::functions::{FUNCTIONS, call, call_unknown};
use super::value::{PhasorValue, Type, Value};
use crate::document::Problem;
use crate::name::nearest;
use crate::quantity::{Dimension, Quantity, Unit};
use num_complex::Complex64;
use std::ops::Range;

/// What the names of an expression stand for.
pub trait Names {
    /// The value of a dotted name.
    fn value(&self, path: &str) -> Option<Value>;

    /// All names there are, to suggest the nearest one.
    fn known(&self) -> Vec<String>;

    /// Why a name that is not known may be meant for something else.
    fn hint(&self, _path: &str) -> Option<String> {
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
                let unknown = args.iter().any(Value::is_unknown);
                let given = if unknown {
                    call_unknown(name.as_str(), &args)
                } else {
                    call(name.as_str(), &args)
                };
                given.map_err(|why| Problem::new(span(), format!("`{name}` {why}")))?
            }
        }
        ExprKind::List(items) => list(items, names)?,
        ExprKind::Interval(from, to) => names.interval(from, to, &expr.span)?,
    };
    let finite = match &value {
        Value::Quantity(q) => q.si.is_finite(),
        Value::Phasor(p) => p.is_finite(),
        Value::Phases(all) => all.iter().all(|p| p.is_finite()),
        _ => true,
    };
    if finite { Ok(value) } else { Err(Problem::new(span(), "this is too large to be a number")) }
}

fn unknown_name(path: &str, span: Range<usize>, names: &dyn Names) -> Problem {
    let problem = Problem::new(span, format!("nothing is called `{path}`"));
    if let Some(hint) = names.hint(path) {
        return problem.help(hint);
    }
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

fn unary(op: Unary, value: Value, span: Range<usize>) -> Result<Value, Problem> {
    Ok(match (op, value) {
        (_, Value::Unknown(kind)) => {
            let sample = kind.sample();
            if matches!(sample, Value::Unknown(_)) {
                sample
            } else {
                Value::Unknown(unary(op, sample, span)?.kind())
            }
        }
        (Unary::Minus, Value::Quantity(q)) => Quantity { si: -q.si, ..q }.into(),
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
    if left.0.is_unknown() || right.0.is_unknown() {
        return binary_unknown(op, left, right, span);
    }
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

/// What an operation gives where an operand is not known: the type alone.
fn binary_unknown(
    op: Binary,
    left: Operand<'_>,
    right: Operand<'_>,
    span: Range<usize>,
) -> Result<Value, Problem> {
    // One side alone may decide, so that a wrong other side still shows.
    let sample = |v: Value| if let Value::Unknown(kind) = v { kind.sample() } else { v };
    let known_zero = op == Binary::Divide && magnitude(&right.0) == Some(0.0);
    if known_zero {
        return Err(Problem::new(right.1.clone(), "division by zero"));
    }
    let (a, b) = (sample(left.0), sample(right.0));
    if a.is_unknown() || b.is_unknown() {
        return Ok(Value::Unknown(if op.compares() { Type::Bool } else { Type::Any }));
    }
    binary(op, (a, left.1), (b, right.1), span).map(|v| Value::Unknown(v.kind()))
}

fn magnitude(value: &Value) -> Option<f64> {
    match value {
        Value::Quantity(q) => Some(q.si.abs()),
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

/// Evaluates to a quantity of one dimension.
///
/// # Errors
/// As [`evaluate`], and where the value is of another kind.
pub fn quantity(
    expr: &Expr,
    wanted: Dimension,
    names: &dyn Names,
) -> Result<Option<Quantity>, Problem> {
    match evaluate(expr, names)? {
        Value::Quantity(q) if q.dimension == wanted => Ok(Some(q)),
        Value::Unknown(Type::Any) => Ok(None),
        Value::Unknown(Type::Quantity(d)) if d == wanted => Ok(None),
        other => Err(wrong_kind(expr, &other.kind(), wanted)),
    }
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
