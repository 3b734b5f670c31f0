//! What must not be seen: the columns that a later step hides.

use crate::finding::Finding;
use crate::stages::{Kind, Stage};

/// Which columns of each stage a later one hides, and which others are made of them and stay clear.
pub(crate) fn mark_secrets(stages: &mut [Stage], findings: &mut Vec<Finding>) {
    let mut after: Vec<bool> = stages.last().map(|s| vec![false; s.output.fields.len()]).unwrap_or_default();
    for stage in stages.iter_mut().rev() {
        let mut here = vec![false; stage.input.fields.len()];
        match &stage.kind {
            Kind::Project(outs) => {
                for (n, out) in outs.iter().enumerate() {
                    let hidden = after.get(n).copied().unwrap_or(false) || out.hides;
                    if hidden {
                        out.reads.iter().chain(&out.of).for_each(|&c| here[c] = true);
                    }
                }
            }
            _ => here.iter_mut().enumerate().for_each(|(n, secret)| *secret = after.get(n).copied().unwrap_or(false)),
        }
        stage.secret.clone_from(&here);
        after = here;
    }
    // a column beside the hidden one that is made of it
    for at in 0..stages.len() {
        let Kind::Project(outs) = &stages[at].kind else { continue };
        let next: Vec<bool> = stages.get(at + 1).map(|s| s.secret.clone()).unwrap_or_else(|| vec![false; outs.len()]);
        for (n, out) in outs.iter().enumerate() {
            let clear = !next.get(n).copied().unwrap_or(false) && !out.hides;
            let secret = out.reads.iter().find(|&&c| stages[at].secret[c]);
            if let (true, Some(&secret)) = (clear, secret) {
                let (made, of) = (&stages[at].output.fields[n].name, &stages[at].input.fields[secret].name);
                let finding = format!("{made} is made of {of}, which is hidden elsewhere, and is not hidden itself");
                findings.push(
                    Finding::warning(finding)
                        .of(stages[at].step, "columns")
                        .suggest("hide it too, or hide the column first"),
                );
            }
        }
    }
}
