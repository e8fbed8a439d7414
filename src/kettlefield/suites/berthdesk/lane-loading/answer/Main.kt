const val GAP = 50

class Lane(val name: String, val length: Int) {
    val cars = mutableListOf<String>()
    private var used = 0

    val room: Int
        get() = length - used

    fun load(car: String, size: Int) {
        cars.add(car)
        used += size + GAP
    }
}

fun main() {
    val rows = generateSequence(::readLine).map { it.trim().split(" ") }.filter { it.size == 3 }.toList()
    val lanes = rows.filter { it[0] == "lane" }.map { Lane(it[1], it[2].toInt()) }
    for ((kind, name, size) in rows) {
        if (kind != "car") {
            continue
        }
        val lane = lanes.filter { it.room >= size.toInt() }.minBy { it.room }
        if (lane == null) {
            println("$name stays ashore")
        } else {
            lane.load(name, size.toInt())
        }
    }
    for (lane in lanes) {
        println("${lane.name}: ${if (lane.cars.isEmpty()) "-" else lane.cars.joinToString(" ")}")
    }
}
