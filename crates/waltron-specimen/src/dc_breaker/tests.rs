use super::*;
use waltron_core::injection::stimulus::Dc;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Frequency, Voltage, degrees, seconds};

fn unit() -> DcBreaker {
    let truth = DcBreakerTruth {
        setting_a: 4000.0,
        lag_s: 2e-3,
        opening_s: 4e-3,
        closing_s: 0.08,
        arc_v: 120.0,
        arc_s: 2e-3,
        resistance_ohm: 4e-3,
        henry: 40e-6,
        places: vec![("main contacts".into(), 20e-6), ("joint 1".into(), 8e-6)],
        store_v: 60.0,
        drain: 0.0,
        recharge_s: 4.0,
        scatter: 0.0,
        noise: 0.0,
    };
    let mut unit = DcBreaker::new(truth, 1);
    unit.channels = [Some("us".into()), Some("ij".into())];
    unit
}

fn put(unit: &mut DcBreaker, volts: f64) {
    let nothing = Phasor::new(Voltage::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine("us".into(), nothing, Frequency::from_si(50.0));
    drive.dc = Some(Dc::constant(Voltage::from_si(volts)));
    unit.apply(&Stimulus { currents: Vec::new(), voltages: vec![drive] });
}

fn current(unit: &DcBreaker, start_s: f64, count: usize) -> Vec<f64> {
    let window = Window { start_s, rate_hz: 20_000.0, count };
    unit.samples(&MAIN_A.into(), window).unwrap()
}

/// Below its setting a circuit of resistance and inductance, and nothing else.
#[test]
fn the_current_rises_as_resistance_and_inductance_let_it() {
    let mut it = unit();
    put(&mut it, 12.0);
    it.advance(seconds(0.1));
    let seen = current(&it, 0.0, 2000);
    for k in [20, 200, 1000] {
        let time = f64::from(k) / 20_000.0;
        // 12 V over 4 mOhm, 10 ms: by hand.
        let by_hand = 3000.0 * (1.0 - (-time / 0.010f64).exp());
        assert!((seen[k as usize] - by_hand).abs() < 4.0, "{k}: {} {by_hand}", seen[k as usize]);
    }
    assert!(it.is_closed);
}

/// It opens on what its release sees, later by lag and opening; the arc takes the current away.
#[test]
fn it_opens_and_the_arc_takes_the_current_away() {
    let mut it = unit();
    put(&mut it, 60.0);
    it.advance(seconds(0.1));
    let seen = current(&it, 0.0, 2000);
    let most = seen.iter().copied().fold(0.0, f64::max);
    let at = seen.iter().position(|a| *a == most).unwrap() as f64 / 20_000.0;
    // 4000 A come after 3.1 ms; a ramp of about 1.2 A/us is seen a lag of 2 ms late; then 4 ms.
    let crossing = -0.010 * (1.0 - 4000.0 / 15_000.0f64).ln();
    let parts = at - crossing;
    assert!((0.0055..0.0085).contains(&parts), "{parts}");
    assert!(most > 6500.0 && *seen.last().unwrap() == 0.0 && !it.is_closed, "{most}");
    // What is open stays open until it is closed.
    it.is_commanded = true;
    it.begin(1);
    put(&mut it, 12.0);
    it.advance(seconds(0.05));
    assert!(current(&it, 0.0, 900).iter().all(|a| *a == 0.0));
    it.switch(&CLOSE.into(), true);
    it.advance(seconds(0.3));
    assert!(current(&it, 0.2, 100).iter().all(|a| *a > 2900.0));
    // And what is told to open opens, whatever flows.
    it.switch(&OPEN.into(), true);
    it.advance(seconds(0.5));
    assert!(current(&it, 0.4, 100).iter().all(|a| *a == 0.0));
}

#[test]
fn the_store_gives_what_it_has_and_fills_again() {
    let mut it = unit();
    it.truth.drain = 0.5;
    put(&mut it, 8.0);
    it.advance(seconds(0.5));
    let low = it.reading(STORE).unwrap();
    assert!(low < 40.0, "{low}");
    put(&mut it, 0.0);
    it.advance(seconds(20.0));
    assert!(it.reading(STORE).unwrap() > 55.0);
    assert!(it.lead(&"joint 9".into()).is_err());
}
