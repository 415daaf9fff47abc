//! SCPI: the text protocol of instruments, on both ends of the line.
//!
//! Follows SCPI-1999 volume 1 (syntax and style, 5 to 7; status, 9) and IEEE 488.2-1992 (7, program
//! messages; 8, responses; 10, common commands). No socket and no clock in it:
//!
//! 1. [`Framer`] cuts a stream of bytes into program messages;
//! 2. [`parse`] reads a message into [`Unit`]s: header and parameters;
//! 3. [`Tree`] finds the command that a header means, in its short or long form;
//! 4. [`Status`] keeps what instruments must keep: event registers, masks and the error queue;
//! 5. [`reply`] writes responses and reads them on the other end.
//!
//! Not supported: expressions as parameters, non-decimal numbers, channel lists, and what belongs
//! to the GPIB alone (serial poll, device clear, the interrupted and unterminated query errors).

mod error;
mod framer;
mod parameter;
mod parse;
pub mod reply;
mod status;
mod tree;

pub use error::{Fault, faults};
pub use framer::{Framed, Framer};
pub use parameter::{Parameter, SiUnit};
pub use parse::{Header, Unit, parse};
pub use status::{Event, Status, Summary};
pub use tree::{Command, Takes, Tree};
