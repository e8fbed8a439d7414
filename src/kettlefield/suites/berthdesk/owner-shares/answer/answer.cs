using System;
using System.Collections.Generic;
using System.Globalization;
using System.Linq;

static class Program
{
    static readonly CultureInfo Plain = CultureInfo.InvariantCulture;

    static string Divide(string[] words)
    {
        decimal total = decimal.Parse(words[0], Plain);
        var owners = words.Skip(1).Select(word => word.Split('=')).ToList();
        var shares = owners.Select(owner => decimal.Parse(owner[1], Plain)).ToList();
        decimal whole = shares.Sum();
        if (whole != 100m)
        {
            return "shares add up to " + whole.ToString("0.####", Plain);
        }
        var parts = shares.Select(share => Math.Round(total * share / 100m, 2, MidpointRounding.ToEven)).ToList();
        decimal left = total - parts.Sum();
        parts[shares.IndexOf(shares.Max())] += left;
        var texts = owners.Select((owner, at) => owner[0] + " " + parts[at].ToString("0.00", Plain));
        return string.Join(" ", texts) + " (" + left.ToString("+0.00;-0.00;0.00", Plain) + ")";
    }

    static void Main()
    {
        string line;
        while ((line = Console.ReadLine()) != null)
        {
            var words = line.Split(new[] { ' ' }, StringSplitOptions.RemoveEmptyEntries);
            if (words.Length > 0)
            {
                Console.WriteLine(Divide(words));
            }
        }
    }
}
