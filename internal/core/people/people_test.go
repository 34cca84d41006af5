package people

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const table = "\uFEFFid,name,prefers,mail,phone\r\n" +
	"ja,Jonas Käser,mail,Jonas@lindental.example,+41790000001\r\n" +
	"17,\"Roth, Lea\",phone,lea@lindental.example,+41790000002\r\n" +
	"\r\n" +
	"p3,Peter,phone,,\r\n" +
	"p4,Peter,,peter@lindental.example,\r\n"

func book(t *testing.T, text string) *Book {
	t.Helper()
	list, err := ReadCSV(text)
	require.NoError(t, err)
	b, err := New(list)
	require.NoError(t, err)
	return b
}

func TestFinding(t *testing.T) {
	b := book(t, table)
	for who, want := range map[string]string{
		"ja": "ja", " JA ": "ja", "jonas@LINDENTAL.example": "ja", "jonas ka\u0308ser": "ja", "17": "17", "Roth, Lea": "17",
		"Peter": "", "P4": "p4", "nobody": "", "": "", "+41790000001": "",
	} {
		p := b.Find(who)
		if want == "" {
			assert.Nil(t, p, who)
		} else if assert.NotNil(t, p, who) {
			assert.Equal(t, want, p.ID, who)
		}
	}
	assert.True(t, b.Several("peter"))
	assert.False(t, b.Several("jonas"))
	assert.Nil(t, (*Book)(nil).Find("ja"))
}

// Of several with one address, it is the first one's.
func TestWhoseAnAddressIs(t *testing.T) {
	b := book(t, "id,name,square,mail\na,Ann,@desk,desk@lindental.example\nb,Ben,@DESK,ben@lindental.example\nc,Cleo,,desk@lindental.example\n")
	for address, want := range map[Address]string{
		{"square", "@desk"}: "a", {"square", "@Desk"}: "a", {"mail", "Desk@lindental.example"}: "a", {"mail", "ben@lindental.example"}: "b",
		{"mail", "@desk"}: "", {"phone", "@desk"}: "", {"square", ""}: "",
	} {
		p := b.At(address.Connection, address.Address)
		if want == "" {
			assert.Nil(t, p, address)
		} else if assert.NotNil(t, p, address) {
			assert.Equal(t, want, p.ID, address)
		}
	}
}

func TestPreferred(t *testing.T) {
	b := book(t, table)
	a, err := b.Find("17").Preferred()
	require.NoError(t, err)
	assert.Equal(t, Address{"phone", "+41790000002"}, a)
	_, err = b.Find("p3").Preferred()
	require.ErrorContains(t, err, "Peter prefers phone, but has no address there")
	a, err = b.Find("p4").Preferred()
	require.NoError(t, err)
	assert.Equal(t, "mail", a.Connection, "the first where none is preferred")
	assert.Equal(t, map[string]any{"id": "17", "name": "Roth, Lea", "prefers": "phone", "mail": "lea@lindental.example", "phone": "+41790000002"}, b.Find("17").Value())
}

func TestATableThatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		"":                                  "line 1: a people book begins with its heading",
		"mail,phone\n":                      "line 1: no column is called id",
		"id,name,name\n":                    "line 1: two columns are called name",
		"id,name,\n":                        "line 1: column 3 has no heading",
		"id,name\nx,y,z\n":                  "line 2: there are 3 columns, and 2 headings",
		"id,name,prefers,mail\na,A,fax,x\n": "line 2: A prefers fax, which is none of the columns",
		"id,name,mail\n,,a@b.example\n":     "line 2: the person has no id",
		"id,name\n\na,\"A\n":                "line 3: ",
		"id,name\n\"a\nb\",c\n":             "line 2: an id or a name has a line end in it",
	} {
		_, err := ReadCSV(text)
		require.ErrorContains(t, err, want, "%q", text)
	}
	_, err := New([]Person{{ID: "a", Name: "A"}, {ID: "A"}})
	assert.ErrorContains(t, err, "person 2 has the id A, as A has")
}

func TestWritingATable(t *testing.T) {
	b := book(t, "ID;Name;prefers;phone;mail\nx;X;mail;;x@y.example\nz;Z;;1;\n")
	text := WriteCSV(b.All())
	assert.Equal(t, "id,name,prefers,mail,phone\nx,X,mail,x@y.example,\nz,Z,,,1\n", text)
	assert.Equal(t, text, WriteCSV(book(t, text).All()), "what is written is read as the same")
}

func FuzzTable(f *testing.F) {
	f.Add(table)
	f.Add("id,name\n\"a\",b\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ReadCSV(text)
		if err != nil {
			return
		}
		b, err := New(list)
		if err != nil {
			return
		}
		again, err := ReadCSV(WriteCSV(b.All()))
		require.NoError(t, err)
		require.Len(t, again, len(list))
		for i := range list {
			require.Equal(t, list[i].ID, again[i].ID)
			require.ElementsMatch(t, list[i].Addresses, again[i].Addresses)
		}
	})
}

func TestCards(t *testing.T) {
	text := "BEGIN:VCARD\r\nVERSION:4.0\r\nUID:urn:uuid:7-a\r\nFN:Jonas Käser\r\nEMAIL;TYPE=home:home@x.example\r\nEMAIL;PREF=1:jonas@\r\n lindental.example\r\nTEL;VALUE=uri:tel:+41-79-123-45-67\r\nIMPP:xmpp:jonas@rooms.example?x\r\nEND:VCARD\r\n" +
		"BEGIN:VCARD\nVERSION:3.0\nN:Roth;Lea;;;\nEMAIL:lea@lindental.example\nEND:VCARD\n"
	list, err := ReadVCard(text, Over{Mail: "post", Phone: "phone", Room: "talk"})
	require.NoError(t, err)
	assert.Equal(t, []Person{
		{ID: "7-a", Name: "Jonas Käser", Addresses: []Address{{"post", "jonas@lindental.example"}, {"phone", "+41-79-123-45-67"}, {"talk", "jonas@rooms.example"}}},
		{ID: "lea@lindental.example", Name: "Lea Roth", Addresses: []Address{{"post", "lea@lindental.example"}}},
	}, list)
	list, err = ReadVCard(text, Over{})
	require.NoError(t, err)
	assert.Empty(t, list[0].Addresses, "what no connection is for is left out")
	for text, want := range map[string]string{
		"": "card 1: there is no card", "hello": "card 1: there is no card", "BEGIN:VCARD\nVERSION:4.0\nEND:VCARD\n": "card 1: it has no UID",
	} {
		_, err := ReadVCard(text, Over{})
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func FuzzCards(f *testing.F) {
	f.Add("BEGIN:VCARD\nVERSION:3.0\nN:Roth;Lea;;;\nEMAIL:lea@lindental.example\nEND:VCARD\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, err := ReadVCard(text, Over{Mail: "mail", Phone: "phone", Room: "room"})
		if err != nil {
			return
		}
		for _, p := range list {
			require.NotEmpty(t, p.ID)
			require.NotContains(t, p.ID+p.Name, "\n")
		}
	})
}
