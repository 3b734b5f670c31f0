//! Commands, their help and their reference.

use std::process::Command as Process;

use clap::Command;
use gonvel_app::examples::{EXAMPLES, example};

use crate::support::THIS;

fn leaves(command: &Command, words: &mut Vec<String>, found: &mut Vec<Vec<String>>) {
    words.push(command.get_name().to_owned());
    if command.has_subcommands() {
        command.get_subcommands().filter(|below| !below.is_hide_set()).for_each(|below| leaves(below, words, found));
    } else {
        found.push(words.clone());
    }
    words.pop();
}

/// The words of an example as a shell gives them to the program.
fn words(example: &str) -> Vec<String> {
    let command = example.split(" > ").next().unwrap_or_default();
    let (mut words, mut quoted) = (vec![String::new()], false);
    for letter in command.chars() {
        match letter {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            letter => words.last_mut().unwrap().push(letter),
        }
    }
    words
}

#[test]
fn every_command_has_an_example_that_it_takes() {
    let mut found = Vec::new();
    leaves(&gonvel_app::command(), &mut Vec::new(), &mut found);
    let without: Vec<_> = found.iter().filter(|leaf| example(leaf).is_none()).collect();
    assert!(without.is_empty(), "{without:?}");
    assert_eq!(found.len(), EXAMPLES.len(), "one each");
    for example in EXAMPLES {
        let taken = gonvel_app::command().try_get_matches_from(words(example));
        assert!(taken.is_ok(), "{example}: {}", taken.unwrap_err());
    }
}

#[test]
fn the_reference_in_docs_is_the_program_s_and_help_has_an_example() {
    let printed = |arguments: &[&str]| {
        let done = Process::new(THIS).args(arguments).output().unwrap();
        assert!(done.status.success(), "{arguments:?}");
        String::from_utf8(done.stdout).unwrap()
    };
    let kept = include_str!("../../../../docs/commands.md");
    assert!(printed(&["reference"]) == kept, "docs/commands.md is not current: run make reference");
    assert!(printed(&["topic", "create", "--help"]).contains("Example: gonvel topic create bins.weighed"));
}
