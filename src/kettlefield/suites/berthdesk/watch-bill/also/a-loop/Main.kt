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
        .filter { it.isNotEmpty() }
        .map { line -> Person(line.substringBefore(' '), line.substringAfterLast(' ')) }
        .toMutableList()
    var last = -1
    "ABCDEF".forEach { watch ->
        var best = -1
        for (i in people.indices) {
            if (i == last || !people[i].can.contains(watch)) continue
            if (best == -1 || people[i].taken < people[best].taken ||
                people[i].taken == people[best].taken && people[i].can.length < people[best].can.length
            ) {
                best = i
            }
        }
        last = best
        if (best == -1) {
            println("$watch nobody")
        } else {
            people[best].taken += 1
            println(watch + " " + people[best].name)
        }
    }
    val names = people.filter { it.taken < 1 }.joinToString("") { " " + it.name }
    println("idle:" + if (names == "") " none" else names)
}
