//! A script of 10 000 lines: parsed and checked against the sample asset and rig.

use criterion::{Criterion, criterion_group, criterion_main};
use std::hint::black_box;
use std::sync::Arc;
use waltron_core::text::document::Source;
use waltron_relay::AssetForm;
use waltron_rig::RigForm;
use waltron_script::{Context, format, load};

fn scripts(c: &mut Criterion) {
    let asset =
        AssetForm::load(&Source::new("asset", include_str!("../../../examples/q05-t2.asset.toml")));
    let rig = RigForm::load(&Source::new("rig", include_str!("../../../examples/q05-t2.rig.toml")));
    let (asset, rig) = (asset.expect("a good file"), rig.expect("a good file"));
    let ten = "let level = 2 * 51P.pickup  # a comment\n\
        fault A-N with i = level * 1.5 after prefault i = 0.5 A for 1 s until trip, at most 10 s\n\
        expect time(inception -> trip) within band(51P) as \"{level}\"\n\
        hold v = balanced(nominal.voltage / sqrt(3)), ia.h3 = 6 % @ 180 deg for 2 s then off\n\
        ramp ia from 1 A to 2 A by 20 mA every 250 ms until start and not trip else fail \"none\"\n\
        expect ramp.value is 51P.pickup within 3 % or 10 mA\n\
        for m in [1.5, 2, 5]\n  wait 200 ms\n  tell \"at {m * 1 A}\"\nend\n";
    let text: Arc<str> = ten.repeat(1000).into();
    assert_eq!(text.lines().count(), 10_000);
    let context = Arc::new(Context::new("bench".into(), asset, rig.capability, Arc::clone(&text)));
    let source = Source::new("bench.seq", Arc::clone(&text));
    let mut group = c.benchmark_group("10 000 lines");
    group.sample_size(20);
    group.bench_function("parse and check", |b| {
        b.iter(|| load(black_box(&source), &context).expect("a good script"));
    });
    group.bench_function("lay out", |b| b.iter(|| format(black_box(&text))));
    group.finish();
}

criterion_group!(benches, scripts);
criterion_main!(benches);
