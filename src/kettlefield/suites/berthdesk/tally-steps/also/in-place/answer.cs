using System;

public class Answer
{
    public static int Main(string[] args)
    {
        for (string text = Console.In.ReadLine(); text != null; text = Console.In.ReadLine())
        {
            text = text.Trim();
            if (text == "") continue;
            string[] words = System.Text.RegularExpressions.Regex.Split(text, " +");
            int n = words.Length;
            int[] row = new int[n];
            int shift = n > 2 ? 2 : 0;
            for (int i = 0; i < n; i++)
            {
                int x = int.Parse(words[i]);
                row[(i - shift + n) % n] = (i & 1) == 0 ? 3 * x + 7 : x - 11;
            }
            var made = new System.Collections.Generic.List<int>();
            int running = 0;
            foreach (int x in row)
            {
                if ((x % 5 + 5) % 5 == 3) continue;
                running = (4 * running + x) % 9973;
                if (running < 0) running += 9973;
                made.Add(running);
            }
            made.Sort();
            made.Reverse();
            if (made.Count > 6) made.RemoveRange(6, made.Count - 6);
            Console.WriteLine(made.Count == 0 ? "-" : String.Join(" ", made));
        }
        return 0;
    }
}
