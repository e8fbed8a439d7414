using System;
using System.Collections.Generic;

sealed class RuleError : Exception
{
    public readonly int Place;

    public RuleError(int at)
    {
        Place = at + 1;
    }
}

sealed class Rule
{
    static readonly HashSet<string> Words = new HashSet<string> { "and", "or", "not", "in" };
    readonly string text;
    readonly Dictionary<string, int> facts;
    int at;

    public Rule(string text, Dictionary<string, int> facts)
    {
        this.text = text;
        this.facts = facts;
    }

    public bool Evaluate()
    {
        bool value = Or();
        Blanks();
        if (at < text.Length)
        {
            throw new RuleError(at);
        }
        return value;
    }

    bool Or()
    {
        bool value = And();
        while (TakeWord("or"))
        {
            value |= And();
        }
        return value;
    }

    bool And()
    {
        bool value = Not();
        while (TakeWord("and"))
        {
            value &= Not();
        }
        return value;
    }

    bool Not()
    {
        if (TakeWord("not"))
        {
            return !Not();
        }
        if (TakeSign("("))
        {
            bool value = Or();
            NeedSign(")");
            return value;
        }
        return Condition();
    }

    bool Condition()
    {
        string name = PeekWord();
        if (name.Length == 0 || Words.Contains(name))
        {
            throw new RuleError(at);
        }
        at += name.Length;
        int value;
        facts.TryGetValue(name, out value);
        if (TakeWord("in"))
        {
            return In(value);
        }
        if (TakeSign("<=")) return value <= Number();
        if (TakeSign(">=")) return value >= Number();
        if (TakeSign("<")) return value < Number();
        if (TakeSign(">")) return value > Number();
        if (TakeSign("=")) return value == Number();
        return value != 0;
    }

    bool In(int value)
    {
        NeedSign("(");
        bool found = false;
        do
        {
            found |= Number() == value;
        } while (TakeSign(","));
        NeedSign(")");
        return found;
    }

    int Number()
    {
        Blanks();
        int end = at;
        while (end < text.Length && text[end] >= '0' && text[end] <= '9')
        {
            end++;
        }
        if (end == at)
        {
            throw new RuleError(at);
        }
        int number = int.Parse(text.Substring(at, end - at));
        at = end;
        return number;
    }

    void Blanks()
    {
        while (at < text.Length && text[at] == ' ')
        {
            at++;
        }
    }

    string PeekWord()
    {
        Blanks();
        int end = at;
        while (end < text.Length && text[end] >= 'a' && text[end] <= 'z')
        {
            end++;
        }
        return text.Substring(at, end - at);
    }

    bool TakeWord(string word)
    {
        if (PeekWord() != word)
        {
            return false;
        }
        at += word.Length;
        return true;
    }

    bool TakeSign(string sign)
    {
        Blanks();
        if (string.CompareOrdinal(text, at, sign, 0, sign.Length) != 0)
        {
            return false;
        }
        at += sign.Length;
        return true;
    }

    void NeedSign(string sign)
    {
        if (!TakeSign(sign))
        {
            throw new RuleError(at);
        }
    }
}

static class Program
{
    static void Main()
    {
        var facts = new Dictionary<string, int>();
        string line;
        while ((line = Console.ReadLine()) != null)
        {
            line = line.Trim();
            if (line.StartsWith("set "))
            {
                var words = line.Split(new[] { ' ' }, StringSplitOptions.RemoveEmptyEntries);
                facts[words[1]] = int.Parse(words[2]);
            }
            else if (line.StartsWith("ask"))
            {
                try
                {
                    Console.WriteLine(new Rule(line.Substring(3).Trim(), facts).Evaluate() ? "yes" : "no");
                }
                catch (RuleError error)
                {
                    Console.WriteLine("error at " + error.Place);
                }
            }
        }
    }
}
