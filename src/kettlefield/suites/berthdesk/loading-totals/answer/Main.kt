// Adds up what each ship took on board, line by line: ship, goods, amount.
data class Loading(val ship: String, val goods: String, val amount: Int)

fun parse(line: String): Loading? {
    val parts = line.split(";")
    val amount = parts.getOrNull(2)?.trim()?.toIntOrNull() ?: return null
    return Loading(parts[0], parts[1], amount)
}

fun total(loadings: List<Loading>, goods: String): Int {
    return loadings.filter { it.goods.trim() == goods }.map { it.amount }.sum()
}

fun main() {
    val loadings = generateSequence(::readLine).mapNotNull { parse(it) }.toList()
    for (ship in loadings.map { it.ship }.toSet().sorted()) {
        val mine = loadings.filter { it.ship == ship }
        println("$ship: fuel ${total(mine, "fuel")}, water ${total(mine, "water")}")
    }
}
