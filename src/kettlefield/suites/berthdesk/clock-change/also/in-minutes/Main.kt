fun days(year: Int, month: Int, day: Int): Int {
    val y = if (month <= 2) year - 1 else year
    val era = y / 400
    val yoe = y - era * 400
    val doy = (153 * (month + (if (month > 2) -3 else 9)) + 2) / 5 + day - 1
    return era * 146097 + yoe * 365 + yoe / 4 - yoe / 100 + doy - 719468
}

fun lastSunday(year: Int, month: Int): Int {
    val end = days(year, month, 31)
    return end - (end + 4) % 7
}

fun yearOf(minute: Int): Int {
    var year = 1970
    while (days(year + 1, 1, 1) * 1440 <= minute) year++
    return year
}

fun shift(utc: Int): Int {
    val year = yearOf(utc)
    val from = lastSunday(year, 3) * 1440 + 60
    val to = lastSunday(year, 10) * 1440 + 60
    return if (utc in from until to) 60 else 0
}

fun write(minute: Int): String {
    val year = yearOf(minute)
    var month = 1
    while (month < 12 && days(year, month + 1, 1) * 1440 <= minute) month++
    val day = (minute - days(year, month, 1) * 1440) / 1440 + 1
    return "%04d-%02d-%02dT%02d:%02d".format(year, month, day, minute / 60 % 24, minute % 60)
}

fun main() {
    while (true) {
        val line = readLine() ?: break
        val numbers = Regex("[0-9]+").findAll(line).map { it.value.toInt() }.toList()
        if (numbers.isEmpty()) continue
        val shown = days(numbers[0], numbers[1], numbers[2]) * 1440 + numbers[3] * 60 + numbers[4]
        val summer = shift(shown - 60) == 60
        val winter = shift(shown) == 0
        if (!summer && !winter) {
            println("no such time")
            continue
        }
        val end = (if (summer) shown - 60 else shown) + numbers[5]
        print(write(end + shift(end)) + (if (shift(end) == 60) " summer" else " winter"))
        println(if (summer && winter) " twice" else "")
    }
}
