//! What the faces share, drawn as SVG: the seat strip, the thread, the board, the grid of
//! sessions.

pub(crate) mod board;
pub(crate) mod cue_words;
pub(crate) mod drawn;
pub(crate) mod editor;
pub(crate) mod fields;
pub(crate) mod files;
pub(crate) mod flow;
pub(crate) mod grid;
pub(crate) mod list;
pub(crate) mod marks;
pub(crate) mod meanwhile;
pub(crate) mod new_or;
pub(crate) mod pager;
pub(crate) mod places;
pub(crate) mod rows;
pub(crate) mod sessions;
pub(crate) mod strip;
pub(crate) mod submitted;
pub(crate) mod thread;
