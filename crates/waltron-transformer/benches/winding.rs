//! A day at the winding, in virtual time: 33 positions of three phases, 99 readings and 96 changes of tap.
#![allow(clippy::unwrap_used, missing_docs)]

use criterion::{Criterion, criterion_group, criterion_main};
use waltron_core::wing::Wings;
use waltron_test_support::wing::{Played, asset};
use waltron_transformer::TransformerWing;

const WINGS: Wings = Wings(&[&TransformerWing]);
const ASSET: &str = include_str!("../../../examples/t2.asset.toml");
const RIG: &str = include_str!("../../../examples/t2.rig.toml");
const TRUTH: &str = include_str!("../../../examples/t2.specimen.toml");

fn taps(c: &mut Criterion) {
    let many = |text: &str| {
        let text = text.replace("positions = 19", "positions = 33").replace("1.25 %", "0.7 %");
        text.replace("principal = \"10\"", "principal = \"17\"")
            .replace("principal = 10", "principal = 17")
    };
    let (asset, truth) = (asset(WINGS, &many(ASSET)), many(TRUTH));
    let test = "procedure = \"winding-resistance\"\ntemperature = \"16 degC\"\ncurrent = \"5 A\"\n";
    let mut group = c.benchmark_group("winding");
    group.sample_size(10);
    group.bench_function("33 positions of three phases", |b| {
        b.iter(|| {
            let mut played = Played::new(WINGS, RIG, &truth, 1);
            let (found, _) = played.play(&asset, test, &|q| q.default_answer().unwrap());
            assert_eq!(found.len(), 99 + 96 + 33);
        });
    });
    group.finish();
}

criterion_group!(benches, taps);
criterion_main!(benches);
