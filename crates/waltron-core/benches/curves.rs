//! Evaluating and inverting a standard characteristic, and the band of a composite.

use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;
use waltron_core::characteristic::{Characteristic, Form, Shape, acceptance};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{amperes, seconds};

fn curves(c: &mut Criterion) {
    let coefficients = Shape::find("iec", "normal-inverse").unwrap().coefficients;
    let curve = Characteristic::plain(Form::Inverse { coefficients, tms: 0.3 });
    assert!((curve.operate_time(2.0).unwrap().value - 3.008_708).abs() < 1e-5);
    c.bench_function("operate time", |b| b.iter(|| curve.operate_time(black_box(2.0))));
    c.bench_function("multiple for a time", |b| {
        b.iter(|| curve.multiple_for(black_box(seconds(3.0))));
    });
    let (current, time) =
        (Tolerance::larger_of(0.02, amperes(0.005)), Tolerance::larger_of(0.05, seconds(0.04)));
    c.bench_function("acceptance band", |b| {
        b.iter(|| acceptance(&curve, amperes(1.2), black_box(amperes(2.4)), &current, &time));
    });
}

criterion_group!(benches, curves);
criterion_main!(benches);
