use std::io::Read;

enum Line {
    Good(String, u64, usize),
    Bad,
}

fn look(line: &str) -> Line {
    let mut parts = line.split(' ');
    let plate = parts.next().unwrap_or("");
    let good_plate = !plate.is_empty() && plate.bytes().all(|b| b.is_ascii_alphanumeric());
    let loads: Vec<Option<u64>> = parts
        .map(|p| if p.bytes().all(|b| b.is_ascii_digit()) { p.parse().ok().filter(|&n: &u64| n > 0) } else { None })
        .collect();
    if !good_plate || loads.is_empty() || loads.iter().any(Option::is_none) {
        return Line::Bad;
    }
    Line::Good(plate.to_owned(), loads.iter().flatten().sum(), loads.len())
}

fn main() {
    let mut input = String::new();
    std::io::stdin().read_to_string(&mut input).unwrap();
    let mut all = 0u64;
    for (i, line) in input.lines().enumerate() {
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match look(line) {
            Line::Good(plate, sum, axles) => {
                println!("{plate} {sum} {axles}");
                all += sum;
            }
            Line::Bad => println!("line {}: @@fault@@", i + 1),
        }
    }
    println!("@@sum@@ {all}");
}
