// Answers pairs of a Cargo requirement and a version with the crate `semver`, which Cargo itself uses.
// The pairs hold no quotes, so that every second piece between quotes is one of their texts.
use std::io::Read;

fn main() {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).unwrap();
    let words: Vec<&str> = text.split('"').skip(1).step_by(2).collect();
    let answers: Vec<&str> = words
        .chunks(2)
        .map(|pair| {
            match (semver::VersionReq::parse(pair[0]), semver::Version::parse(pair[1])) {
                (Ok(wanted), Ok(version)) => if wanted.matches(&version) { "true" } else { "false" },
                _ => "null",
            }
        })
        .collect();
    println!("[{}]", answers.join(","));
}
