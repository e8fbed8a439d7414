// Reads the litres that each lamp needs and prints how many cans of @@can@@ litres are opened: oil of one can may go to several lamps.
fn main() {
    let text: String = std::io::stdin().lines().map(|line| line.unwrap() + " ").collect();
    let litres: u64 = text.split_whitespace().map(|word| word.parse::<u64>().unwrap()).sum();
    let cans = (litres + @@can-1@@) / @@can@@;
    println!("{}", cans);
}
