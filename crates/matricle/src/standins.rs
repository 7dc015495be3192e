//! `matricle standins`, and the mailbox that the demo reads among them.

use std::io::Write as _;
use std::sync::Arc;
use std::time::Duration;

use matricle_desk::letters::LARGEST;
use matricle_desk::outside::letterbox::{Imap, Letterbox};
use matricle_serve::serve::stop_signal;
use matricle_standins::beside::{KEY, Running, WEBHOOK_SECRET, start};
use matricle_standins::letterbox;

use crate::cli::StandinArgs;

/// The house's mailbox among the stand-ins, as the demo reads it.
///
/// # Errors
/// Its URL is none.
pub fn mailbox_of(of: &Running) -> anyhow::Result<Arc<dyn Letterbox>> {
    let account = (letterbox::USER, letterbox::PASSWORD);
    let imap = Imap::new(&of.imap, account, "INBOX", LARGEST)?;
    Ok(Arc::new(imap.every(Duration::from_secs(2))))
}

/// Runs the stand-ins alone until told to stop.
///
/// # Errors
/// A port is in use.
pub async fn run(args: &StandinArgs) -> anyhow::Result<()> {
    let running = start(args.port, args.data.as_deref()).await?;
    // Whoever reads the first lines and goes away does not end it.
    let _ = writeln!(
        std::io::stdout(),
        "Till      {till}\nMailbox   {}\nSMTP      {smtp}\n\n\
         What follows is a whole configuration for trying `matricle serve` on this machine. Put it into a file\n\
         as it is, such as matricle.toml; only the house is yours to name.\n\n\
         listen = \"127.0.0.1:8420\"\ndata = \"house\"\npublic_url = \"http://127.0.0.1:8420\"\nbehind_proxy = false\nsecret = \"\"\n\n\
         [house]\nname = \"Our club\"\ncurrency = \"EUR\"\nzone = \"Europe/Dublin\"\nemail = \"office@club.example\"\nterms = \"I have read how cancelling works.\"\n\n\
         [card]\nurl = \"{till}\"\npay_origin = \"{till}\"\nkey = \"{KEY}\"\nwebhook_secret = \"{WEBHOOK_SECRET}\"\n\n\
         [mail]\nserver = \"{smtp}\"\n\n\
         [letters]\nserver = \"{imap}\"\nuser = \"{user}\"\npassword = \"{password}\"\n\n[rooms]\nurl = \"{meeting}\"\ntoken = \"{KEY}\"\n\n[texts]\nurl = \"{phone}\"\ntoken = \"{KEY}\"\n\n[chat]\nurl = \"{room}/hook\"",
        running.mailbox,
        till = running.till,
        smtp = running.smtp,
        phone = running.phone,
        room = running.room,
        imap = running.imap,
        meeting = running.meeting,
        user = letterbox::USER,
        password = letterbox::PASSWORD,
    );
    stop_signal().await;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use matricle_serve::config;

    #[test]
    fn what_everybody_knows_of_the_stand_ins_is_refused_elsewhere() {
        assert_eq!((KEY, WEBHOOK_SECRET), (config::STAND_IN_KEY, config::STAND_IN_WEBHOOK_SECRET));
    }
}
