//! What a store of errands keeps.

use std::collections::BTreeSet;

use gonvel_core::naming::RunnerName;
use gonvel_core::planning::Labels;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, Answer, Errand, ErrandState, ErrandStore, Outcome};
use uuid::Uuid;

fn labels(pairs: &[(&str, &str)]) -> Labels {
    pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
}

/// An errand goes to one runner that has its labels, with the address as it was given; whoever asked gets the answer once, and then nothing
/// of it is left. What was withdrawn goes to nobody.
///
/// # Panics
/// If the contract is broken.
pub async fn each_goes_to_one_runner_of_its_place(store: &dyn ErrandStore) {
    let name = |name: &str| RunnerName::parse(name).expect("a name");
    let near = labels(&[("site", "packhouse"), ("tier", "fast")]);
    let (site, far) = (labels(&[("site", "packhouse")]), labels(&[("site", "office")]));
    let address = Address::new("cold_room").with("host", "db.orchard.example").with_secret("password", "winter gold");
    let state = async |id: Uuid| store.errand(id).await.expect("a state");
    let mut asked = BTreeSet::new();
    for _ in 0..20 {
        let id = store.ask_runners(&site, &address, &Errand::Mend("ALTER ROLE".into())).await.expect("asked");
        assert!(matches!(state(id).await, ErrandState::Waiting));
        asked.insert(id);
    }
    let withdrawn = *asked.first().expect("one");
    store.withdraw(withdrawn).await.expect("withdrawn");
    assert!(matches!(state(withdrawn).await, ErrandState::Gone));
    asked.remove(&withdrawn);
    let none = store.take_errands(&name("far"), &far).await.expect("none");
    assert!(none.is_empty(), "a runner elsewhere takes {none:?}");
    assert!(store.take_errands(&name("bare"), &Labels::new()).await.expect("none").is_empty());

    // two look at the same time, again and again
    let mut taken = Vec::new();
    let (first, second) = (name("first"), name("second"));
    loop {
        let both = futures::join!(store.take_errands(&first, &near), store.take_errands(&second, &site));
        let both = [both.0.expect("taken"), both.1.expect("taken")].into_iter().flatten();
        let before = taken.len();
        taken.extend(both);
        if taken.len() == before {
            break;
        }
    }
    let ids: BTreeSet<Uuid> = taken.iter().map(|errand| errand.id).collect();
    assert_eq!((ids.len(), &ids), (taken.len(), &asked), "each once");
    for errand in &taken {
        assert_eq!(errand.address, address);
        assert!(matches!(&errand.errand, Errand::Mend(statement) if statement == "ALTER ROLE"));
        assert!(matches!(state(errand.id).await, ErrandState::Taken));
    }
    for (place, id) in ids.iter().enumerate() {
        let outcome = match place % 2 {
            0 => Outcome::Answered(Answer::Done),
            _ => Outcome::Failed((&ConnectorError::settings(Some("password"), "it is another", "enter it again")).into()),
        };
        store.answer_errand(*id, &outcome).await.expect("answered");
        match (place % 2, state(*id).await) {
            (0, ErrandState::Done(Outcome::Answered(Answer::Done))) | (1, ErrandState::Done(Outcome::Failed(_))) => {}
            (_, other) => panic!("{other:?}"),
        }
        assert!(matches!(state(*id).await, ErrandState::Gone));
    }
    // an answer to what nobody waits for is no fault
    store.answer_errand(withdrawn, &Outcome::Answered(Answer::Done)).await.expect("nobody waits");
    assert!(matches!(state(withdrawn).await, ErrandState::Gone));
}
