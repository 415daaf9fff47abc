//! How circuit breakers are tested.

mod counter;
mod dynamic;
mod grade;
mod meaning;
mod motor;
mod operation;
mod pickup;
mod resistance;
mod seen;
mod step;
mod task;

pub use counter::{CounterKeys, CounterTest};
pub use dynamic::{DynamicResistanceKeys, DynamicResistanceTest};
pub(crate) use motor::CURRENT as MOTOR_CURRENT;
pub use motor::{MotorKeys, MotorTest};
pub use operation::{OperationKeys, OperationTest};
pub use pickup::{LowestPickupKeys, LowestPickupTest};
pub(crate) use resistance::{CURRENT as POLE_CURRENT, VOLTAGE as POLE_VOLTAGE};
pub use resistance::{ContactResistanceKeys, ContactResistanceTest};
pub(crate) use step::TRAVEL;
