using System;
using System.Collections.Generic;

// Takes slots that have run out off the board, and prints what is left and what was taken off.
static class Program
{
    static int Expire(Dictionary<string, int> slots, int now)
    {
        int gone = 0;
        foreach (var slot in slots)
        {
            if (slot.Value < now)
            {
                slots.Remove(slot.Key);
                gone++;
            }
        }
        return gone;
    }

    static void Main()
    {
        var slots = new Dictionary<string, int>();
        string line;
        while ((line = Console.ReadLine()) != null)
        {
            var words = line.Split(' ');
            if (words[0] == "now")
            {
                int gone = Expire(slots, int.Parse(words[1]));
                Console.WriteLine("{0} left, {1} gone", slots.Count, gone);
            }
            else
            {
                slots.Add(words[0], int.Parse(words[1]));
            }
        }
    }
}
