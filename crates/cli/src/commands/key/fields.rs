use std::io;

use clap::ValueEnum;
use qrcode::render::unicode::Dense1x2;
use qrcode::{EcLevel, QrCode};
use waverant_model::{EncoderFields, KeyRight, NewKey, SrtFields};

use crate::account::Account;
use crate::error::Failure;
use crate::output::Report;

/// What a QR code is to hold.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(in crate::commands) enum QrField {
    /// Address and key in one.
    Whole,
    /// The same over TLS.
    SecureWhole,
    /// The server field.
    Server,
    /// The key field.
    Key,
    /// Address and stream id of SRT in one.
    Srt,
    /// The guest's link.
    GuestLink,
}

/// Shows a key that was just made.
pub(super) fn show_made(made: &NewKey, qr: Option<QrField>, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(made)?);
    }
    let device = if made.key.right == KeyRight::View { "player" } else { "encoder" };
    show_fields(&made.encoder, device, report)?;
    if let Some(warning) = &made.warning {
        report.line(&format!("\n{warning}"))?;
    }
    let link = made.guest_token.as_ref().map(|token| guest_link(token)).transpose()?;
    if let Some((link, until)) = link.as_ref().zip(made.key.guest_link_until) {
        let until = crate::output::moment(until);
        report.line(&format!(
            "\nThe guest's link, which shows all this until {until} and is not shown again:\n\n  {link}"
        ))?;
    }
    let Some(field) = qr else { return Ok(()) };
    let EncoderFields { server, key, whole, secure_whole, srt, .. } = &made.encoder;
    let (text, missing) = match field {
        QrField::Whole => (Some(whole), ""),
        QrField::SecureWhole => (secure_whole.as_ref(), "this service takes no RTMP over TLS"),
        QrField::Server => (Some(server), ""),
        QrField::Key => (Some(key), ""),
        QrField::Srt => (Some(&srt.whole), ""),
        QrField::GuestLink => (link.as_ref(), "no guest's link was asked for; give --guest-link-until"),
    };
    let text = text.ok_or_else(|| Failure::Usage(format!("--qr: {missing}")))?;
    report.line("")?;
    Ok(report.line(&drawn(text)?)?)
}

/// The link is for the console under the address by which we call.
fn guest_link(token: &str) -> Result<String, Failure> {
    Ok(format!("{}/guest#{token}", Account::load()?.url))
}

fn show_fields(fields: &EncoderFields, device: &str, report: &mut Report<'_>) -> io::Result<()> {
    let EncoderFields { server, secure_server, key, guarded_server, user, whole, secure_whole, srt } = fields;
    writeln!(report.out, "Paste these into the {device}'s two fields. The key is not shown again.\n")?;
    writeln!(report.out, "  server  {server}")?;
    if let Some(server) = secure_server {
        writeln!(report.out, "     TLS  {server}")?;
    }
    writeln!(report.out, "  key     {key}")?;
    writeln!(report.out, "\nWhere there is one field only:\n")?;
    writeln!(report.out, "  {whole}")?;
    if let Some(whole) = secure_whole {
        writeln!(report.out, "  {whole}")?;
    }
    writeln!(report.out, "\nWhere user name and password are asked for:\n")?;
    writeln!(report.out, "  server  {guarded_server}")?;
    writeln!(report.out, "  user    {user}")?;
    writeln!(report.out, "  password is the key; the stream may have any name")?;
    show_srt(srt, report)
}

fn show_srt(srt: &SrtFields, report: &mut Report<'_>) -> io::Result<()> {
    writeln!(report.out, "\nOver SRT, as caller:\n")?;
    writeln!(report.out, "  address    {}", srt.address)?;
    writeln!(report.out, "  stream id  {}", srt.stream_id)?;
    writeln!(report.out, "  latency    {} ms or more", srt.latency_ms)?;
    match &srt.passphrase {
        Some(passphrase) => writeln!(report.out, "  passphrase {passphrase}")?,
        None if srt.has_passphrase => writeln!(report.out, "  passphrase that of the channel")?,
        None => {}
    }
    writeln!(report.out, "  one field  {}", srt.whole)
}

/// A QR code of blocks, dark on light whatever the terminal's colours are.
///
/// Source: ISO/IEC 18004
fn drawn(text: &str) -> Result<String, Failure> {
    let code = QrCode::with_error_correction_level(text, EcLevel::M)
        .map_err(|error| Failure::Usage(format!("this is no text for a QR code: {error}")))?;
    // Blocks are drawn with the foreground, which is made white: so the light parts are what is drawn.
    let blocks = code.render::<Dense1x2>().dark_color(Dense1x2::Light).light_color(Dense1x2::Dark).build();
    Ok(blocks.lines().map(|line| format!("  {line}\n")).collect::<String>().trim_end_matches('\n').to_owned())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Two rows of modules stand in each line of characters.
    fn pixels(drawn: &str) -> Vec<Vec<bool>> {
        let lines: Vec<&str> = drawn.lines().map(|line| line.strip_prefix("  ").unwrap()).collect();
        let mut rows = Vec::new();
        for line in lines {
            let is_drawn = |upper: bool| {
                line.chars().map(move |block| match block {
                    '█' => true,
                    '▀' => upper,
                    '▄' => !upper,
                    _ => false,
                })
            };
            rows.extend([is_drawn(true).collect(), is_drawn(false).collect()]);
        }
        rows
    }

    /// As a phone sees it: eight pixels for a module, drawn ones white on a dark terminal.
    fn read_back(drawn: &str) -> String {
        let (rows, scale) = (pixels(drawn), 8);
        let (height, width) = (rows.len() * scale, rows[0].len() * scale);
        let mut image = rqrr::PreparedImage::prepare_from_greyscale(width, height, |x, y| {
            if rows[y / scale].get(x / scale).copied().unwrap_or(false) { 255 } else { 0 }
        });
        let grids = image.detect_grids();
        assert_eq!(grids.len(), 1);
        grids[0].decode().unwrap().1
    }

    #[rstest]
    #[case("rtmp://relay.wexcombe.example/in/abcdefg-23456789abcdefghjkmnpqrstu")]
    #[case("srt://relay.wexcombe.example:7810?streamid=abcdefg-23456789abcdefghjkmnpqrstu")]
    #[case("abcdefg-23456789abcdefghjkmnpqrstu")]
    #[case("Wexcombe~Reach'2019!$()*+:=@[]")]
    fn a_phone_reads_what_is_drawn(#[case] text: &str) {
        assert_eq!(read_back(&drawn(text).unwrap()), text);
    }
}
