//! The outside world, played by ourselves: an encoder that publishes a clip, a platform that
//! takes streams, a player that watches, a bad network between, and the comparison of what one sent with what the other got.

mod authority;
mod certifier;
mod clip;
mod club;
mod compare;
mod crowd;
mod encoder;
mod flv_marks;
mod line;
mod made;
mod mailroom;
mod marks;
mod network;
mod platform;
mod player;
mod siege;
mod srt_player;
mod tag_marks;
mod take;
mod ts_marks;
mod viewer;

pub use authority::{Authority, IssuedCertificate, Validity};
pub use certifier::{Certifier, CertifierCounts, CertifierFault};
pub use clip::Clip;
pub use club::{Club, ClubAnswer, ClubQuestion};
pub use compare::{Comparison, compare, first_difference};
pub use crowd::Crowd;
pub use encoder::{Encoder, EncoderEnd, EncoderFault, EncoderOptions, EncoderReport, Pace, SrtContainer, SrtOptions};
pub use flv_marks::read_flv;
pub use mailroom::{Mailroom, TakenMail};
pub use marks::{Mark, MarkKind};
pub use network::{Network, NetworkFaults, NetworkReport};
pub use platform::{ConnectionReport, Platform, PlatformFault, PlatformOptions, PlatformReport};
pub use player::{Player, PlayerOptions, PlayerReport};
pub use siege::{
    Flood, FloodHabit, GuessCounts, Siege, SiegeCounts, SiegeDoors, call_srt_as, connect_as, guess_passwords,
    invent_srt_callers, post_sign_in, stranger_address,
};
pub use srt_player::watch_over_srt;
pub use take::read_take;
pub use ts_marks::read_transport_stream;
pub use viewer::{PicturesReport, ViewerOptions, ViewerReport, watch_pictures, watch_playlists};
