// Adds up what each ship took on board, line by line: ship, goods, amount.
data class Loading(val ship: String, val goods: String, val amount: Int)

fun parse(line: String): Loading? {
    val parts = line.split(";")
    if (parts.size < 3) return null
    return Loading(parts[0], parts[1], parts[2].toInt())
}

fun total(loadings: List<Loading>, goods: String): Int {
    return loadings.filter { it.goods == goods }.map { it.amount }.reduce { a, b -> a + b }
}

fun main() {
    val loadings = generateSequence(::readLine).mapNotNull { parse(it) }.toList()
    for (ship in loadings.map { it.ship }.toSet().sorted()) {
        val mine = loadings.filter { it.ship == ship }
        println("$ship: fuel ${total(mine, "fuel")}, water ${total(mine, "water")}")
    }
}
