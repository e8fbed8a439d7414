using System;
using System.Collections.Generic;
using System.Linq;

static class Program
{
    static long Remainder(long number, long by)
    {
        return ((number % by) + by) % by;
    }

    static List<long> Tally(long[] numbers)
    {
        var row = numbers.Select((number, at) => at % 2 == 0 ? number * 3 + 7 : number - 11).ToList();
        if (row.Count > 2)
        {
            row = row.Skip(2).Concat(row.Take(2)).ToList();
        }
        row = row.Where(number => Remainder(number, 5) != 3).ToList();
        long running = 0;
        var values = new List<long>();
        foreach (long number in row)
        {
            running = Remainder(running * 4 + number, 9973);
            values.Add(running);
        }
        return values.OrderByDescending(value => value).Take(6).ToList();
    }

    static void Main()
    {
        string line;
        while ((line = Console.ReadLine()) != null)
        {
            var words = line.Split(new[] { ' ' }, StringSplitOptions.RemoveEmptyEntries);
            if (words.Length == 0)
            {
                continue;
            }
            var row = Tally(words.Select(long.Parse).ToArray());
            Console.WriteLine(row.Count > 0 ? string.Join(" ", row) : "-");
        }
    }
}
