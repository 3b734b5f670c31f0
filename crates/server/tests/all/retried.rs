//! What is kept of an answer, for whoever asks again.

use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::Landed;
use gonvel_http_api::RefusedRecord;
use gonvel_server::inner::Told;

#[test]
fn an_answer_comes_back_as_it_was() {
    let landed = |partition, first, records| Landed {
        to: TopicPartition { topic: TopicId(1), partition: PartitionId(partition) },
        first: Offset(first),
        records,
    };
    let told =
        || Told { order: vec![1, 0, 1], refused: vec![RefusedRecord { record: 2, finding: "it is no number".into() }] };
    let kept = told().kept().unwrap();
    assert_eq!(Told::read(&kept), Some(told()));
    let answer = told().answer(&[landed(0, 7, 1), landed(1, 40, 2)]);
    let places: Vec<_> = answer.records.iter().map(|r| (r.partition, r.offset)).collect();
    assert_eq!(places, [(1, 40), (0, 7), (1, 41)]);
    // where all are in one partition there is nothing to keep
    assert_eq!(Told { order: vec![3; 10_000], refused: Vec::new() }.kept(), None);
}
