package phrasebook

// document is a phrasebook as it is written. The tags "says" are what the reference and the schema tell of a key.
type document struct {
	Language   string                       `yaml:"language" says:"name of the format: small letters, digits, hyphens"`
	Title      string                       `yaml:"title" says:"what the language is, in a few words"`
	Files      []string                     `yaml:"files" says:"patterns of usual file names"`
	Begins     string                       `yaml:"begins" says:"how a line begins that every file has: by it a file is recognised"`
	Syntax     syntaxText                   `yaml:"syntax" says:"how text becomes statements"`
	Order      []string                     `yaml:"order" says:"the order in which a device works on a packet"`
	Vocabulary map[string]map[string]string `yaml:"vocabulary" says:"the language's own words, by type"`
	Defaults   []defaultText                `yaml:"defaults" says:"what holds where nothing is configured"`
	Given      []givenText                  `yaml:"given" says:"statements that a device has without saving them: built-in services, profiles, rules"`
	Chains     []chainText                  `yaml:"chains" says:"the lists of access rules that the device always has"`
	Lists      *listText                    `yaml:"lists" says:"lists of access rules that statements name, and others refer to"`
	Phrases    []ruleText                   `yaml:"phrases" says:"the statements, and what they mean; the first phrase that fits is taken"`
	Examples   []exampleText                `yaml:"examples" says:"texts with what is to be found in them"`
}

type syntaxText struct {
	Kind     string   `yaml:"kind" says:"lines, braces, paths, ini, json, yaml or xml"`
	Comments []string `yaml:"comments" says:"what begins a comment"`
	Quotes   string   `yaml:"quotes" says:"characters around texts with blanks"`
	Escape   bool     `yaml:"escape" says:"in quotes, a backslash takes the next character as it is"`
	Marks    string   `yaml:"marks" says:"characters that are words by themselves"`
	Join     bool     `yaml:"join" says:"a line that ends in a backslash goes on in the next"`
	End      string   `yaml:"end" says:"of braces: the character that ends a statement; left out: the line's end"`
	Enter    []string `yaml:"enter" says:"of lines: first words of statements that hold what follows, indented or not"`
	Leave    []string `yaml:"leave" says:"of lines: first words of statements that end what they stand in"`
	Clauses  []string `yaml:"clauses" says:"words that begin parts of a statement: each part is a statement within it"`
	Macros   string   `yaml:"macros" says:"what stands before the name of a macro where it is used; NAME = WORDS says what it stands for"`
	Banners  []string `yaml:"banners" says:"first words of statements whose last word is a mark, up to which a text goes on over lines"`
	Negates  []string `yaml:"negates" says:"first words that turn a statement into its opposite"`
	Fold     bool     `yaml:"fold" says:"capitals are the same as small letters"`
}

type chainText struct {
	Name    string `yaml:"name" says:"the name by which rules refer to it"`
	Hook    string `yaml:"hook" says:"forward, input (to the device itself) or output"`
	Policy  string `yaml:"policy" says:"what becomes of packets that no rule matches: accept, drop or reject"`
	Answers bool   `yaml:"answers" says:"packets of connections that were accepted pass before any rule is asked"`
}

type listText struct {
	End string `yaml:"end" says:"what becomes of packets that no rule of a list matches: accept, drop, reject, or continue"`
}

type defaultText struct {
	Set    string            `yaml:"sets" says:"the setting"`
	Value  string            `yaml:"value" says:"its value"`
	Offers map[string]string `yaml:"offers" says:"parts of proposals that hold where others are configured and these are not; of: ike or child"`
	Since  string            `yaml:"since" says:"the first version that does so; left out: all"`
	Source string            `yaml:"source" says:"where it is described"`
}

type givenText struct {
	Text   string `yaml:"text" says:"statements in the language"`
	Since  string `yaml:"since" says:"the first version that has them; left out: all"`
	Source string `yaml:"source" says:"where they are described"`
}

type ruleText struct {
	Say         string            `yaml:"say" says:"the form of a statement: words, <slot:type>, [ may be left out ], ( one | other ), again..."`
	Makes       string            `yaml:"makes" says:"what the statement begins"`
	Named       string            `yaml:"named" says:"the slots that name it; or the first word of the statement within that does"`
	Of          string            `yaml:"of" says:"of a child: the slot that names its connection, where it stands in none"`
	Kind        string            `yaml:"kind" says:"of an object: networks, proposals, services, interfaces or settings; of routing: the protocol"`
	Again       string            `yaml:"again" says:"what a second object of the same name does: adds (left out), replaces, ignored"`
	Local       bool              `yaml:"local" says:"the object is known only inside the statement around it, where it shadows others of its name"`
	Adds        string            `yaml:"adds" says:"slots whose values belong to the object"`
	Uses        string            `yaml:"uses" says:"the slot that names settings that hold here too"`
	Set         map[string]string `yaml:"sets" says:"settings, and the slots or the value that they get"`
	Offers      map[string]string `yaml:"offers" says:"a whole proposal; of: ike, child or object"`
	Parts       map[string]string `yaml:"parts" says:"a part of the one proposal that statements make together; of: ike, child or object"`
	Version     string            `yaml:"version" says:"the slot that tells the version of what wrote the file"`
	Interface   map[string]string `yaml:"interface" says:"parts of a network interface"`
	Route       map[string]string `yaml:"route" says:"parts of a static route"`
	Key         map[string]string `yaml:"key" says:"parts of a pre-shared key"`
	Rule        map[string]string `yaml:"rule" says:"parts of an access rule"`
	Translation map[string]string `yaml:"translation" says:"parts of a rule of address translation"`
	Service     map[string]string `yaml:"service" says:"a service of the services around it"`
	Routing     map[string]string `yaml:"routing" says:"parts of a routing protocol"`
	Connection  map[string]string `yaml:"connection" says:"what concerns a connection as a whole"`
	Child       map[string]string `yaml:"child" says:"what concerns a child as a whole"`
	Status      map[string]string `yaml:"status" says:"what a status page shows of an SA that is up, or down"`
	Moot        string            `yaml:"moot" says:"why the statement, and all that stands in it, is of no consequence"`
	Not         *ruleText         `yaml:"not" says:"what the negated statement means; left out: flags are off"`
	Phrases     []ruleText        `yaml:"phrases" says:"statements that may stand in it"`
}

type exampleText struct {
	Text  string                       `yaml:"text" says:"a text in the language"`
	Facts map[string]map[string]string `yaml:"facts" says:"by connection, or connection/child: settings and their values as Toril shows them"`
}
