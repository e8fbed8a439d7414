using System;
using System.Collections.Generic;
using System.Linq;
using System.Text.RegularExpressions;

class Token { public string Text; public int At; }

class Answer
{
    static List<Token> tokens;
    static int next;
    static Dictionary<string, long> known = new Dictionary<string, long>();

    static void Fail() { throw new FormatException(tokens[next].At.ToString()); }

    static bool Is(string text) { return tokens[next].Text == text; }

    static bool Eat(string text)
    {
        if (!Is(text)) return false;
        next++;
        return true;
    }

    static bool Any()
    {
        bool v = All();
        while (Eat("or")) { bool w = All(); v = v || w; }
        return v;
    }

    static bool All()
    {
        bool v = One();
        while (Eat("and")) { bool w = One(); v = v && w; }
        return v;
    }

    static long Digits()
    {
        if (tokens[next].Text == "" || !char.IsDigit(tokens[next].Text[0])) Fail();
        return long.Parse(tokens[next++].Text);
    }

    static bool One()
    {
        int times = 0;
        while (Eat("not")) times++;
        bool v;
        if (Eat("("))
        {
            v = Any();
            if (!Eat(")")) Fail();
        }
        else
        {
            string name = tokens[next].Text;
            if (!Regex.IsMatch(name, "^[a-z]+$") || new[] { "and", "or", "in", "not" }.Contains(name)) Fail();
            next++;
            long x = known.ContainsKey(name) ? known[name] : 0;
            if (Eat("<")) v = x < Digits();
            else if (Eat(">")) v = x > Digits();
            else if (Eat("<=")) v = x <= Digits();
            else if (Eat(">=")) v = x >= Digits();
            else if (Eat("=")) v = x == Digits();
            else if (Eat("in"))
            {
                if (!Eat("(")) Fail();
                var list = new List<long> { Digits() };
                while (Eat(",")) list.Add(Digits());
                if (!Eat(")")) Fail();
                v = list.Contains(x);
            }
            else v = x != 0;
        }
        return times % 2 == 1 ? !v : v;
    }

    static void Main()
    {
        foreach (string row in Console.In.ReadToEnd().Split('\n').Select(r => r.Trim()))
        {
            if (row.StartsWith("set"))
            {
                string[] w = Regex.Split(row, " +");
                known[w[1]] = long.Parse(w[2]);
            }
            else if (row != "")
            {
                string rule = row.Substring(3).TrimStart();
                tokens = new List<Token>();
                next = 0;
                foreach (Match m in Regex.Matches(rule, "[a-z]+|[0-9]+|<=|>=|[()<>=,]|[^ ]"))
                    tokens.Add(new Token { Text = m.Value, At = m.Index + 1 });
                tokens.Add(new Token { Text = "", At = rule.Length + 1 });
                try
                {
                    bool v = Any();
                    if (!Is("")) Fail();
                    Console.WriteLine(v ? "yes" : "no");
                }
                catch (FormatException e)
                {
                    Console.WriteLine("error at " + e.Message);
                }
            }
        }
    }
}
