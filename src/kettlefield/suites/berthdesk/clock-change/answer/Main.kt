import java.time.DayOfWeek
import java.time.LocalDate
import java.time.LocalDateTime
import java.time.format.DateTimeFormatter
import java.time.temporal.TemporalAdjusters

val FORM: DateTimeFormatter = DateTimeFormatter.ofPattern("yyyy-MM-dd'T'HH:mm")

fun change(year: Int, month: Int): LocalDateTime =
    LocalDate.of(year, month, 1).with(TemporalAdjusters.lastInMonth(DayOfWeek.SUNDAY)).atTime(1, 0)

fun isSummer(universal: LocalDateTime): Boolean =
    universal >= change(universal.year, 3) && universal < change(universal.year, 10)

fun local(universal: LocalDateTime): LocalDateTime =
    if (isSummer(universal)) universal.plusHours(1) else universal

/** Every universal time at which the clock shows a local time: none, one or two, the first one first. */
fun universal(local: LocalDateTime): List<LocalDateTime> =
    listOf(local.minusHours(1), local).filter { local(it) == local }

fun arrival(departure: LocalDateTime, minutes: Long): String {
    val moments = universal(departure)
    if (moments.isEmpty()) {
        return "no such time"
    }
    val end = moments.first().plusMinutes(minutes)
    val season = if (isSummer(end)) "summer" else "winter"
    val twice = if (moments.size == 2) " twice" else ""
    return "${local(end).format(FORM)} $season$twice"
}

fun main() {
    generateSequence(::readLine).filter { it.isNotBlank() }.forEach { line ->
        val (departure, minutes) = line.trim().split(Regex(" +"))
        println(arrival(LocalDateTime.parse(departure, FORM), minutes.toLong()))
    }
}
