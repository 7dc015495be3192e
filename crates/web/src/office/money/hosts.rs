//! What hosts are owed.

use matricle_core::money::shares::Share;
use matricle_desk::money::books;

use super::{HostRow, Room, Table, View};
use crate::error::WebError;

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
    page.table = Table::new(&["Host", "What for", "Amount"], &[2]);
    for s in &page.statements {
        for (what, minor) in &s.shares {
            page.table.push(String::new(), vec![s.name.clone(), what.clone(), minor.clone()]);
        }
        if let Some(paid) = &s.paid {
            let out = format!("−{paid}");
            page.table.push(String::new(), vec![s.name.clone(), "Paid out".into(), out]);
        }
    }
    page.hosts = all.hosts;
    page.events = all.events;
    Ok(())
}
