//! Totals of the passings of a day, by species.

use std::collections::BTreeMap;
use std::{env, fs, process};

/// Adds up the third column of a table by its second.
fn totals(table: &str) -> BTreeMap<String, u64> {
    let mut out = BTreeMap::new();
    for line in table.lines().skip(1) {
        let mut fields = line.split(',').skip(1);
        if let (Some(species), Some(count)) = (fields.next(), fields.next()) {
            *out.entry(species.to_string()).or_insert(0) += count.parse::<u64>().unwrap_or(0);
        }
    }
    out
}

fn main() {
    let path = env::args().nth(1).unwrap_or_else(|| {
        eprintln!("usage: passings FILE");
        process::exit(2);
    });
    match fs::read_to_string(&path) {
        Ok(table) => totals(&table).iter().for_each(|(species, n)| println!("{species}: {n}")),
        Err(error) => {
            eprintln!("{path}: {error}");
            process::exit(1);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::totals;

    #[test]
    fn species_are_added_up() {
        let found = totals("hour,species,count\n6,silverfin,2\n7,silverfin,5\n7,redgill,1\n");
        assert_eq!(found["silverfin"], 7);
        assert_eq!(found["redgill"], 1);
    }
}
