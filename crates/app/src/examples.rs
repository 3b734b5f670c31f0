//! An example for each command, shown with its help and in the reference.

use clap::Command;

/// One for each, beginning with the words that lead to it.
pub const EXAMPLES: [&str; 73] = [
    "gonvel serve --listen 127.0.0.1:8470 --database-url-file /etc/gonvel/database",
    "gonvel runner --runner packhouse-1 --label site=packhouse",
    "gonvel demo --port 8471 --empty",
    "gonvel demo-workload --rate 50",
    "gonvel key rotate --key-file secret.key",
    "gonvel key seal --key-file secret.key",
    "gonvel openapi > openapi.json",
    "gonvel completion bash > ~/.local/share/bash-completion/completions/gonvel",
    "gonvel topic list -o json",
    "gonvel topic show bins.weighed",
    "gonvel topic create bins.weighed --partitions 6 --forget-after 7d",
    "gonvel topic change bins.weighed --forget-after 30d --yes",
    "gonvel topic add-partitions bins.weighed 12 --yes",
    "gonvel topic delete bins.weighed",
    "gonvel records read bins.weighed --key bin-8 --oldest -n 100",
    "gonvel records write bins.weighed --file bins.jsonl --idempotency-key monday-early",
    "gonvel records search bins.weighed 'value.weight_kg > 18'",
    "gonvel records export bins.weighed bins.parquet",
    "gonvel records import bins.weighed bins.csv --by-key",
    "gonvel schema list",
    "gonvel schema show bins.weighed",
    "gonvel schema pull bins.weighed --folder schemas",
    "gonvel schema register bins.weighed bins.avsc --why 'crates have a grade'",
    "gonvel schema check bins.weighed bins.avsc",
    "gonvel schema difference bins.weighed 1 2",
    "gonvel schema push schemas --dry-run",
    "gonvel schema delete bins.weighed --yes",
    "gonvel reader list",
    "gonvel reader show labels",
    "gonvel reader create labels bins.weighed bins.scanned --latest",
    "gonvel reader reposition labels --time 2026-11-25T06:00:00Z --yes",
    "gonvel reader change labels bins.weighed --yes",
    "gonvel reader delete labels",
    "gonvel connection list",
    "gonvel connection kinds",
    "gonvel connection create packhouse --kind postgresql --set host=127.0.0.1 --set database=packhouse --secret-from-env PACKHOUSE_PASSWORD",
    "gonvel connection test packhouse",
    "gonvel connection tables packhouse",
    "gonvel connection sample packhouse public.bins",
    "gonvel connection delete packhouse --yes",
    "gonvel connector list",
    "gonvel connector create packhouse-changes.yaml --draft",
    "gonvel connector describe packhouse-changes > packhouse-changes.yaml",
    "gonvel connector status packhouse-changes",
    "gonvel connector delete packhouse-changes",
    "gonvel connector show packhouse-changes",
    "gonvel connector start packhouse-changes settlement-tables",
    "gonvel connector pause settlement-tables",
    "gonvel connector stop settlement-tables",
    "gonvel connector restart settlement-tables --lane 1",
    "gonvel connector log settlement-tables --level warning --follow",
    "gonvel connector positions settlement-tables",
    "gonvel connector move settlement-tables --topic packhouse.bins --earliest",
    "gonvel connector begin-anew packhouse-changes --existing-rows compare --yes",
    "gonvel connector load-again packhouse-changes public.bins",
    "gonvel connector history packhouse-changes -n 20",
    "gonvel fleet runners",
    "gonvel fleet waiting",
    "gonvel fleet drain packhouse-1",
    "gonvel fleet forget packhouse-1",
    "gonvel operation list --state running",
    "gonvel operation show 0199d2c4-7b1e-7c3a-9f53-2d1c8e5a4b60",
    "gonvel operation wait 0199d2c4-7b1e-7c3a-9f53-2d1c8e5a4b60",
    "gonvel operation cancel 0199d2c4-7b1e-7c3a-9f53-2d1c8e5a4b60",
    "gonvel apply installation --dry-run",
    "gonvel export installation",
    "gonvel check-restored",
    "gonvel quarantine causes",
    "gonvel quarantine list --connector settlement-tables -n 20",
    "gonvel quarantine show 118",
    "gonvel quarantine mend 118 '{\"bin\": 8, \"weight_kg\": 18.5}'",
    "gonvel quarantine retry --connector settlement-tables --per-second 50",
    "gonvel quarantine discard 118 --reason 'weighed twice'",
];

/// What is common to commands that ask a server, told once in the reference.
const COMMON: [&str; 4] = ["server", "context", "contexts", "output"];

/// The example of a command, by the words that lead to it.
#[must_use]
pub fn example(words: &[String]) -> Option<&'static str> {
    let leads = |example: &&&str| {
        let mut of = example.split_whitespace();
        words.iter().all(|word| of.next() == Some(word))
    };
    EXAMPLES.iter().find(leads).copied()
}

/// A command with an example in the help of each that has no others below it.
pub(crate) fn with_examples(command: Command) -> Command {
    below(command, &mut Vec::new(), &|example| format!("Example: {example}"))
}

fn below(mut command: Command, words: &mut Vec<String>, told: &dyn Fn(&str) -> String) -> Command {
    words.push(command.get_name().to_owned());
    command = match example(words).filter(|_| !command.has_subcommands()) {
        Some(example) => command.after_help(told(example)),
        None => command.mut_subcommands(|command| below(command, words, told)),
    };
    words.pop();
    command
}

/// How the reference begins, in the place of what is usual.
const BEGINS: &str = "Made from the program itself by `make reference`. Commands that ask a server take also `--server URL`, or `--context NAME` with \
     the servers in a file (`--contexts`), and `-o json` for scripts. What loses something is shown first, and done with `--yes`. Exit codes: 0 \
     done, 1 another failure, 2 wrong arguments, 3 not there, 4 refused, 5 the server does not answer, 6 there is something to do that was only \
     to be told.";

/// The reference of all commands, as Markdown.
pub(crate) fn reference(command: Command) -> String {
    let options =
        clap_markdown::MarkdownOptions::new().title("Commands".into()).show_footer(false).show_table_of_contents(false);
    let command = below(command, &mut Vec::new(), &|example| format!("```sh\n{example}\n```"));
    let whole = clap_markdown::help_markdown_command_custom(&told_once(command), &options);
    whole.replacen("This document contains the help content for the `gonvel` command-line program.", BEGINS, 1)
}

/// Without what is common to many.
fn told_once(mut command: Command) -> Command {
    let common: Vec<_> = command.get_arguments().map(|argument| argument.get_id().clone()).collect();
    for id in common.into_iter().filter(|id| COMMON.contains(&id.as_str())) {
        command = command.mut_arg(id, |argument| argument.hide(true));
    }
    command.mut_subcommands(told_once)
}
