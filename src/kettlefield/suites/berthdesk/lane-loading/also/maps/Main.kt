import java.util.Scanner

fun main(args: Array<String>) {
    val length = LinkedHashMap<String, Int>()
    val loaded = HashMap<String, MutableList<Pair<String, Int>>>()
    val cars = ArrayList<Pair<String, Int>>()
    val input = Scanner(System.`in`)
    while (input.hasNext()) {
        val kind = input.next()
        val name = input.next()
        val size = input.nextInt()
        if (kind == "lane") {
            length[name] = size
            loaded[name] = mutableListOf()
        } else {
            cars += name to size
        }
    }
    cars.forEach { car ->
        var chosen: String? = null
        var least = Int.MAX_VALUE
        length.forEach { (name, whole) ->
            val there = loaded.getValue(name)
            val left = whole - there.sumBy { it.second + 50 }
            if (left >= car.second && left < least) {
                least = left
                chosen = name
            }
        }
        val lane = chosen
        if (lane != null) loaded.getValue(lane).add(car) else println(car.first + " stays ashore")
    }
    length.keys.forEach { name ->
        val there = loaded.getValue(name)
        print("$name:")
        if (there.isEmpty()) print(" -")
        there.forEach { print(" " + it.first) }
        println()
    }
}
