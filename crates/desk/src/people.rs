//! People: signing in, what somebody who asks has proved, how often they may.

pub mod asking;
pub mod invited;
pub mod often;
pub mod signin;
