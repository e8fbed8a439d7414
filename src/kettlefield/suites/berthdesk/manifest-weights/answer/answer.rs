use std::io::{self, BufRead};

fn parse(line: &str) -> Option<(String, u64, usize)> {
    let words: Vec<&str> = line.split(' ').collect();
    let plate = words[0];
    if plate.is_empty() || !plate.chars().all(|c| c.is_ascii_alphanumeric()) || words.len() < 2 {
        return None;
    }
    let mut sum = 0;
    for word in &words[1..] {
        if !word.chars().all(|c| c.is_ascii_digit()) {
            return None;
        }
        let load: u64 = word.parse().ok()?;
        if load == 0 {
            return None;
        }
        sum += load;
    }
    Some((plate.to_string(), sum, words.len() - 1))
}

fn main() {
    let mut total = 0;
    for (index, line) in io::stdin().lock().lines().enumerate() {
        let line = line.unwrap();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match parse(&line) {
            Some((plate, sum, axles)) => {
                total += sum;
                println!("{} {} {}", plate, sum, axles);
            }
            None => println!("line {}: @@fault@@", index + 1),
        }
    }
    println!("@@sum@@ {}", total);
}
