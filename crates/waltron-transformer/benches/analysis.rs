//! The analysis of a five-tap core with 200 points a tap: curves, knee points, class assessment, and the
//! whole table of classes.

use criterion::{Criterion, criterion_group, criterion_main};
use num_complex::Complex64;
use std::hint::black_box;
use waltron_core::uncertainty::Estimate;
use waltron_transformer::analysis::{
    Class, Evidence, ExcitationCurve, Plate, Sample, assess, meets,
};

fn points(turns: f64) -> Vec<Sample> {
    let one = |k: u32| {
        let e = 0.02 * 20_000f64.powf(f64::from(k) / 199.0);
        let i = 1.6e-4 * e.powf(0.75) + 1e-36 * e.powi(14);
        Sample {
            emf_v: e * turns,
            rms_a: i / turns,
            current: Complex64::from_polar(i / turns, -1.0),
            peak_a: Some(1.5 * i / turns),
            moves: Vec::new(),
        }
    };
    (0..200).map(one).collect()
}

fn plate(turns: f64) -> Plate {
    Plate {
        primary_a: 1200.0 * turns,
        secondary_a: 1.0,
        hertz: 50.0,
        burden_va: Some(15.0 * turns),
        power_factor: None,
        extended: 1.2,
        security_factor: None,
        knee_v: None,
        exciting: None,
        resistance_ohm: None,
        duty: None,
    }
}

fn analysis(c: &mut Criterion) {
    let taps = [1.0 / 6.0, 1.0 / 3.0, 0.5, 0.75, 1.0];
    let measured: Vec<_> = taps.map(|t| (plate(t), t, points(t))).to_vec();
    let class = Class::of_current("5P20").expect("a class");
    c.bench_function("five taps of 200 points", |b| {
        b.iter(|| {
            for (plate, turns, points) in &measured {
                let curve = ExcitationCurve::new(black_box(points.clone())).expect("a curve");
                black_box(curve.knees());
                let seen = Evidence {
                    turns: Ok(Estimate::exact(1200.0 * turns)),
                    winding: Ok(Estimate::exact(6.0 * turns)),
                    curve: Ok(curve),
                    remanence: Err("not measured".to_owned()),
                };
                black_box(assess(class, plate, &seen, None));
                black_box(meets::table(plate, &seen));
            }
        });
    });
}

criterion_group!(benches, analysis);
criterion_main!(benches);
