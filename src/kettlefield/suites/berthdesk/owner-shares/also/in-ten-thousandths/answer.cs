using System;
using System.Collections.Generic;
using System.Numerics;
using System.Text;

class Owners
{
    static BigInteger Scaled(string text, int digits)
    {
        int point = text.IndexOf('.');
        string whole = point < 0 ? text : text.Substring(0, point);
        string rest = point < 0 ? "" : text.Substring(point + 1);
        return BigInteger.Parse(whole + rest.PadRight(digits, '0'));
    }

    static string Pounds(BigInteger pence)
    {
        string sign = pence < 0 ? "-" : "";
        pence = BigInteger.Abs(pence);
        return sign + (pence / 100) + "." + ((int)(pence % 100)).ToString("00");
    }

    static void Main()
    {
        string line;
        while ((line = Console.ReadLine()) != null)
        {
            if (line.Trim().Length == 0) continue;
            string[] words = line.Trim().Split(' ');
            BigInteger pence = Scaled(words[0], 2), sum = 0, given = 0, best = -1;
            int to = 0;
            var shares = new List<BigInteger>();
            for (int i = 1; i < words.Length; i++)
            {
                BigInteger share = Scaled(words[i].Split('=')[1], 4);
                shares.Add(share);
                sum += share;
                if (share > best) { best = share; to = i - 1; }
            }
            if (sum != 1000000)
            {
                string text = (sum / 10000) + "." + ((int)(sum % 10000)).ToString("0000");
                Console.WriteLine("shares add up to " + text.TrimEnd('0').TrimEnd('.'));
                continue;
            }
            var parts = new List<BigInteger>();
            foreach (BigInteger share in shares)
            {
                BigInteger rest, part = BigInteger.DivRem(pence * share, 1000000, out rest);
                if (rest > 500000 || rest == 500000 && !part.IsEven) part += 1;
                parts.Add(part);
                given += part;
            }
            BigInteger left = pence - given;
            parts[to] += left;
            var made = new StringBuilder();
            for (int i = 0; i < parts.Count; i++) made.Append(words[i + 1].Split('=')[0]).Append(' ').Append(Pounds(parts[i])).Append(' ');
            Console.WriteLine(made + "(" + (left > 0 ? "+" : "") + Pounds(left) + ")");
        }
    }
}
