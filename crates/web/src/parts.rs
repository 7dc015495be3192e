//! What the faces share: the seat strip and the thread, drawn as SVG.

pub(crate) mod strip;
pub(crate) mod thread;
