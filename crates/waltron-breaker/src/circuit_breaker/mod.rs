//! Circuit breakers of medium and high voltage, operated by their coils.

pub mod analysis;
mod asset;
mod procedure;
mod scaffold;
mod shown;

pub use asset::{
    Auxiliary, CircuitBreaker, CircuitBreakerForm, Coil, Counts, Limits, Measurand, Motor, Span,
    Transducer,
};
pub use procedure::{
    ContactResistanceKeys, ContactResistanceTest, CounterKeys, CounterTest, DynamicResistanceKeys,
    DynamicResistanceTest, LowestPickupKeys, LowestPickupTest, MotorKeys, MotorTest, OperationKeys,
    OperationTest,
};
pub(crate) use scaffold::{asset as new_asset, circuit as new_tests};
pub(crate) use shown::{charts, sections};
