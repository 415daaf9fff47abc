//! What survives when either side is killed: every graded point; and no output that is on, nothing charged.

mod bench;
mod charged;
mod relay;
