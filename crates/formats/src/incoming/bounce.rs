//! Mails about mails: that one did not arrive (RFC 3464, RFC 6533), that it was shown
//! (RFC 8098), that its reader complains of it (RFC 5965).

use mail_parser::{Message, PartType};
use matricle_core::words::address::is_address;
use matricle_core::words::text;

use super::{header, id, media_type};

/// A mail that did not arrive.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Bounce {
    /// The `Message-ID` of the mail; empty where it is not told.
    pub message_id: String,
    /// The addresses that it did not arrive at.
    pub addresses: Vec<String>,
    /// It will not arrive; otherwise it is tried again.
    pub for_good: bool,
    /// What the other side said, in one line.
    pub said: String,
}

/// What a report says of one of ours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Report {
    /// It did not arrive.
    Bounce(Bounce),
    /// It arrived, went on, or was shown: nothing is wrong (RFC 3464 §2.3.3, RFC 8098).
    Receipt,
    /// Its reader does not want it; the `Message-ID` of it (RFC 5965).
    Complaint(String),
}

/// Most recipients of a report that are read.
const MOST_RECIPIENTS: usize = 200;

type Block = Vec<(String, String)>;

/// The blocks of a report's fields (RFC 3464 §2.1): one about the mail, then one for each
/// recipient, with empty lines between. Names in small letters, values unfolded. Where the empty
/// line was lost on the way, a second *Final-Recipient* begins a block.
fn blocks(report: &str) -> Vec<Block> {
    let mut blocks = vec![Block::new()];
    for line in report.lines() {
        let Some(block) = blocks.last_mut() else { break };
        if line.trim().is_empty() {
            if !block.is_empty() {
                blocks.push(Block::new());
            }
        } else if line.starts_with([' ', '\t']) {
            if let Some((_, value)) = block.last_mut() {
                value.push(' ');
                value.push_str(line.trim());
            }
        } else if let Some((name, value)) = line.split_once(':') {
            let field = (name.trim().to_lowercase(), value.trim().to_owned());
            let is_next = field.0 == "final-recipient" && block.iter().any(|(n, _)| *n == field.0);
            if is_next {
                blocks.push(vec![field]);
            } else {
                block.push(field);
            }
        }
    }
    blocks.truncate(MOST_RECIPIENTS + 1);
    blocks
}

/// A value without its comments (RFC 5322 §3.2.2), which may stand in each other.
fn plain(value: &str) -> String {
    let (mut open, mut is_quoted, mut is_escaped) = (0_usize, false, false);
    let mut plain = String::new();
    for c in value.chars() {
        match c {
            _ if is_escaped => is_escaped = false,
            '\\' if open > 0 => {
                is_escaped = true;
                continue;
            }
            '"' if open == 0 => is_quoted = !is_quoted,
            '(' if !is_quoted => {
                open += 1;
                continue;
            }
            ')' if open > 0 => {
                open -= 1;
                continue;
            }
            _ => {}
        }
        if open == 0 {
            plain.push(c);
        }
    }
    plain.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn value(block: &Block, name: &str) -> Option<String> {
    block.iter().find(|(n, _)| n == name).map(|(_, v)| plain(v))
}

/// An address in a field such as `rfc822; who@club.example` (RFC 3464 §2.3.2), or
/// `utf-8; \x{73}i\x{E2}n@club.example` (RFC 6533 §3).
fn typed(value: &str) -> Option<String> {
    let (kind, address) = value.rsplit_once(';').unwrap_or(("", value));
    let mut address = id(address.trim());
    if kind.trim().eq_ignore_ascii_case("utf-8") {
        address = unescaped(&address);
    }
    is_address(&address).then_some(address)
}

/// Undoes `\x{…}` of an address (RFC 6533 §3, *utf-8-addr-xtext*).
fn unescaped(address: &str) -> String {
    let mut whole = String::new();
    let mut rest = address;
    while let Some((before, after)) = rest.split_once("\\x{") {
        whole.push_str(before);
        let letter = after.split_once('}').and_then(|(hex, after)| {
            Some((u32::from_str_radix(hex, 16).ok().and_then(char::from_u32)?, after))
        });
        let Some((letter, after)) = letter else {
            rest = after;
            break;
        };
        whole.push(letter);
        rest = after;
    }
    whole + rest
}

/// The `Message-ID` in the headers of a mail that is quoted.
fn quoted_id(quoted: &str) -> String {
    blocks(quoted)
        .into_iter()
        .flatten()
        .find(|(name, value)| {
            name.trim_start_matches(['>', ' ']) == "message-id" && value.contains('@')
        })
        .map(|(_, value)| id(&value))
        .unwrap_or_default()
}

/// What a mail reports of another, if it does.
pub(super) fn report(mail: &Message<'_>, from: &str, words: &str) -> Option<Report> {
    let mut quoted = String::new();
    let mut status = None;
    let mut is_shown = false;
    let mut complaint = None;
    for part in &mail.parts {
        let contents = || String::from_utf8_lossy(part.contents()).into_owned();
        match (&part.body, media_type(part).as_str()) {
            (PartType::Message(inner), _) if quoted.is_empty() => {
                quoted = format!("Message-ID: <{}>", inner.message_id().unwrap_or_default());
            }
            (_, "message/delivery-status" | "message/global-delivery-status") => {
                status.get_or_insert_with(contents);
            }
            (_, "message/disposition-notification" | "message/global-disposition-notification") => {
                is_shown = true
            }
            (_, "message/feedback-report") => complaint = Some(contents()),
            (_, "text/rfc822-headers" | "message/rfc822-headers" | "message/global-headers")
                if quoted.is_empty() =>
            {
                quoted = contents();
            }
            _ => {}
        }
    }
    if let Some(said) = complaint {
        let wants_no_more = blocks(&said).first().and_then(|b| value(b, "feedback-type"));
        let wants_no_more = wants_no_more.is_some_and(|kind| {
            ["abuse", "fraud", "opt-out", "opt-out-list", "other"]
                .iter()
                .any(|k| kind.eq_ignore_ascii_case(k))
        });
        let message_id = quoted_id(&quoted);
        return Some(if wants_no_more { Report::Complaint(message_id) } else { Report::Receipt });
    }
    if is_shown {
        return Some(Report::Receipt);
    }
    let mut found = match status {
        Some(status) => match of_recipients(&status) {
            Some(found) => found,
            None => return Some(Report::Receipt),
        },
        None => of_words(mail, from, words)?,
    };
    found.message_id = quoted_id(if quoted.is_empty() { words } else { &quoted });
    let mut seen = std::collections::HashSet::new();
    found.addresses.retain(|a| seen.insert(a.to_lowercase()));
    found.said = text::line(&found.said).chars().take(300).collect();
    Some(Report::Bounce(found))
}

/// Who of a report's recipients was not reached; `None` where all were (RFC 3464 §2.3.3).
fn of_recipients(report: &str) -> Option<Bounce> {
    let (mut failed, mut delayed) = (Bounce::default(), Bounce::default());
    for block in blocks(report) {
        let action = value(&block, "action").unwrap_or_default();
        let into = match action.split_whitespace().next() {
            Some(word) if word.eq_ignore_ascii_case("failed") => &mut failed,
            Some(word) if word.eq_ignore_ascii_case("delayed") => &mut delayed,
            _ => continue,
        };
        for name in ["original-recipient", "final-recipient"] {
            into.addresses.extend(value(&block, name).as_deref().and_then(typed));
        }
        if into.said.is_empty() {
            // The words of the other side keep what stands in brackets.
            let diagnostic = block.iter().find(|(n, _)| n == "diagnostic-code");
            let said = diagnostic.map(|(_, v)| v.split_once(';').map_or(v.as_str(), |v| v.1));
            into.said = said
                .map(|s| s.trim().to_owned())
                .or_else(|| value(&block, "status"))
                .unwrap_or_default();
        }
        into.for_good = true;
    }
    if failed.for_good {
        return Some(failed);
    }
    delayed.for_good.then_some(Bounce { for_good: false, ..delayed })
}

/// What a mail server says in words: a header that names whom it did not reach, or a code with an
/// address, with the mail's own headers below.
fn of_words(mail: &Message<'_>, from: &str, words: &str) -> Option<Bounce> {
    let local = from.split('@').next().unwrap_or_default().to_lowercase();
    let named = header(mail, "X-Failed-Recipients");
    let server = ["mailer-daemon", "postmaster", "mail-daemon"].contains(&local.as_str());
    let empty = header(mail, "Return-Path").is_some_and(|v| v == "<>");
    if named.is_none() && !server && !empty {
        return None;
    }
    let mut found = Bounce::default();
    found.addresses.extend(named.into_iter().flat_map(|v| v.split(',')).filter_map(typed));
    // A code of the mail transport for good (RFC 5321 §4.2.1, RFC 3463) next to an address.
    let said = words.lines().map(str::trim).find(|l| {
        ["550", "551", "552", "553", "554", "5.1.", "5.2.", "5.4.", "5.7."].iter().any(|code| {
            l.starts_with(code)
                || l.contains(&format!(" {code}"))
                || l.contains(&format!("#{code}"))
        })
    });
    found.for_good = said.is_some() || named.is_some();
    found.said = said.unwrap_or_default().to_owned();
    if found.addresses.is_empty() {
        let mut parts = words
            .split(|c: char| c.is_whitespace() || "<>(),;\"'".contains(c))
            .map(|w| w.trim_end_matches([':', '.']));
        found.addresses.extend(parts.find(|w| is_address(w)).map(String::from));
    }
    (!found.addresses.is_empty() && found.for_good).then_some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(blocks: &str) -> Option<Bounce> {
        of_recipients(&blocks.replace('\n', "\r\n"))
    }

    #[test]
    fn each_recipient_of_a_report_is_read_by_itself() {
        let found = read(
            "Reporting-MTA: dns; relay.example\n\
             \n\
             Original-Recipient: rfc822;ana@post.example\n\
             Final-Recipient: RFC822; ana@post.example\n\
             Action: delivered\n\
             Status: 2.0.0\n\
             \n\
             Final-Recipient: rfc822;\n kit@nowhere.example (Kit (who left))\n\
             Action: failed (for good)\n\
             Status: 5.1.1 (bad mailbox)\n\
             Diagnostic-Code: smtp; 550 no such\n  mailbox (really)\n\
             \n\
             Final-Recipient: rfc822; slow@far.example\n\
             Action: delayed\n\
             Diagnostic-Code: smtp; 451 later\n",
        );
        let found = found.unwrap();
        assert_eq!(found.addresses, ["kit@nowhere.example"]);
        assert_eq!((found.for_good, found.said.as_str()), (true, "550 no such mailbox (really)"));
        for fine in ["delivered", "relayed", "expanded", "anything"] {
            let block = format!("Final-Recipient: rfc822; a@b.example\nAction: {fine}\n");
            assert_eq!(read(&block), None, "{fine}");
        }
        // Without the empty line between them.
        let found = read(
            "Final-Recipient: rfc822; a@b.example\nAction: relayed\n\
             Final-Recipient: rfc822; c@d.example\nAction: failed\nStatus: 5.0.0\n",
        );
        assert_eq!(found.unwrap().addresses, ["c@d.example"]);
    }

    #[test]
    fn addresses_beyond_ascii_are_read_as_they_are_written() {
        for (written, read) in [
            ("rfc822; who@club.example", "who@club.example"),
            ("rfc822; <who@club.example>", "who@club.example"),
            ("utf-8; si\\x{E2}n@club.example", "siân@club.example"),
            ("utf-8; siân@club.example", "siân@club.example"),
            ("who@club.example", "who@club.example"),
        ] {
            assert_eq!(typed(written).as_deref(), Some(read), "{written}");
        }
        for broken in ["utf-8; \\x{", "utf-8; a\\x{D800}@b.example\\x{110000}", "rfc822;", ""] {
            assert!(typed(broken).is_none_or(|a| is_address(&a)), "{broken}");
        }
        assert_eq!(plain("failed (a \\) (b)) now"), "failed now");
        assert_eq!(plain("\"(not)\" one ((open"), "\"(not)\" one");
    }
}
