//! `gonvel check-restored`

use gonvel_http_api::{Agreement, AgreementOutcome};

use crate::client::Client;
use crate::error::CommandError;
use crate::table::Table;

fn agreements_table(agreements: &Vec<Agreement>) -> Table {
    let mut table = Table::new(&["connector", "kind", "outcome", "what was found, and what to do"], "no connector");
    for one in agreements {
        let outcome = match one.outcome {
            AgreementOutcome::Agrees => "agrees",
            AgreementOutcome::Differs => "differs",
            AgreementOutcome::Unknown => "not known",
        };
        let says = one.says.clone().unwrap_or_else(|| "it goes on from where it stands".into());
        table.row([one.name.clone(), one.kind.clone(), outcome.into(), says]);
    }
    table
}

/// Prints what each connector would do; refused if one of them would not go on by itself.
pub(crate) async fn check(client: &Client) -> Result<(), CommandError> {
    let agreements: Vec<Agreement> = client.all("/agreements", &[]).await?;
    client.print(&agreements, agreements_table)?;
    match agreements.iter().filter(|one| one.outcome != AgreementOutcome::Agrees).count() {
        0 => Ok(()),
        some => Err(CommandError::Refused(format!("{some} of {} do not go on from where they stand", agreements.len()))),
    }
}
