/**
 * Works out the watch bill. Each line of standard input: a name, and the watches that the person can
 * take, as letters from A to F without blanks; "-" for none. Watches are filled in the order A to F. For
 * each one the person is taken who has taken the fewest watches so far; among those the one who can take
 * the fewest watches at all, and among those the one whose line stands first. Nobody takes two watches in
 * a row. A watch that nobody can take stays empty. Prints a line for each watch: its letter and the name,
 * or "nobody"; and at the end "idle:" and the names of those who took none, in the order of the lines,
 * each after a blank - or the word "none".
 */
class Person(val name: String, val can: String) {
    var taken = 0
}

fun main() {
    val people = generateSequence(::readLine)
        .map { it.trim().split(" ") }
        .filter { it.size == 2 }
        .map { Person(it[0], it[1]) }
        .toList()
    var before: Person? = null
    for (watch in 'A'..'F') {
        val free = people.filter { watch in it.can && it !== before }
        val chosen = free.sortedWith(compareBy<Person> { it.taken }.thenBy { it.can.length }).firstOrNull()
        if (chosen != null) {
            chosen.taken++
        }
        println("$watch ${chosen?.name ?: "nobody"}")
        before = chosen
    }
    val idle = people.filter { it.taken == 0 }.map { it.name }
    println("idle: ${if (idle.isEmpty()) "none" else idle.joinToString(" ")}")
}
