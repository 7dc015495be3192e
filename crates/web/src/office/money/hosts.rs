//! What hosts are owed.

use matricle_core::money::shares::Share;
use matricle_desk::money::books;
use matricle_formats::table::Cell;

use super::{HostRow, Room, View, text};
use crate::error::WebError;
use crate::parts::list::Column;

/// Fills the tab.
pub(super) async fn fill(page: &mut Room, v: &View<'_>) -> Result<(), WebError> {
    let all = books::hosts(v.desk(), v.staff()).await?;
    page.empty = "";
    let said = |s: Share| match s {
        Share::Percent(p) => format!("{p} % of what is earned"),
        Share::PerHead(m) => format!("{} a head", v.currency.of(m)),
        Share::Fixed(m) => format!("{} in all", v.currency.of(m)),
        Share::AfterCosts { percent, costs } => {
            format!("{percent} % after {} of costs", v.currency.of(costs))
        }
    };
    page.statements = all
        .statements
        .into_iter()
        .map(|s| {
            let rows = s
                .shares
                .iter()
                .map(|(share, minor)| {
                    (format!("{}: {}", share.title, said(share.share)), v.figures(*minor))
                })
                .collect();
            let paid = (s.paid() != 0).then(|| v.figures(s.paid()));
            HostRow { id: s.host.0, owed: v.figures(s.owed), paid, shares: rows, name: s.name }
        })
        .collect();
    // As a file: a row for each share, and one for what was paid out.
    let mut rows: Vec<(String, String, String)> = Vec::new();
    for s in &page.statements {
        let shares = s.shares.iter().map(|(what, minor)| (what.clone(), minor.clone()));
        let paid = s.paid.iter().map(|paid| ("Paid out".to_owned(), format!("−{paid}")));
        rows.extend(shares.chain(paid).map(|(what, amount)| (s.name.clone(), what, amount)));
    }
    let columns = vec![
        text("host", "Host", |r: &(String, String, String)| &r.0),
        text("what", "What for", |r: &(String, String, String)| &r.1),
        Column::new("amount", "Amount", |r: &(String, String, String)| Cell::amount(&r.2)),
    ];
    page.put(v, columns, rows);
    page.hosts = all.hosts;
    page.events = all.events;
    Ok(())
}
