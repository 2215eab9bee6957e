<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import Refused from './Refused.vue'
import { useMay } from './useMay'

const route = useRoute()
const may = useMay()
const open = computed(() => route.meta.shownBy === undefined || may.shows(route.meta.shownBy))
const pages = [
  { key: 'bookings', path: '/bookings', name: 'Bookings' },
  { key: 'invoices', path: '/invoices', name: 'Invoices' },
]

async function signOut() {
  await fetch('/sign-out', { method: 'POST' })
  location.assign('/')
}
</script>

<template>
  <el-container class="portal" direction="vertical">
    <el-header class="head">
      <router-link to="/" class="name">Agents’ portal</router-link>
      <nav aria-label="Pages">
        <template v-for="page in pages" :key="page.key">
          <router-link v-if="may.shows(page.key)" :to="page.path">{{ page.name }}</router-link>
        </template>
      </nav>
      <div class="who" aria-live="polite">
        <template v-if="may.subject.value">
          <span>{{ may.subject.value }}</span>
          <el-button @click="signOut">Sign out</el-button>
        </template>
        <el-button v-else-if="may.standing.value !== 'asking'" tag="a" href="/sign-in" type="primary"> Sign in </el-button>
      </div>
    </el-header>
    <el-main>
      <el-alert
        v-if="may.standing.value === 'away'"
        title="What you may do cannot be asked now, so nothing is shown. It goes on by itself."
        type="warning"
        show-icon
        :closable="false"
      />
      <el-alert
        v-else-if="may.standing.value === 'signed-out'"
        title="Your sign-in has ended. Sign in again."
        type="warning"
        show-icon
        :closable="false"
      />
      <router-view v-if="open" />
      <Refused v-else-if="may.standing.value === 'known'" />
    </el-main>
  </el-container>
</template>

<style>
.portal {
  min-height: 100vh;
  background: var(--ground);
  color: var(--ink);
  font-family: var(--sans);
}
.portal .head {
  display: flex;
  align-items: center;
  gap: 24px;
  background: var(--sheet);
  border-bottom: 1px solid var(--rule);
}
.portal .name {
  font-weight: 700;
  color: inherit;
  text-decoration: none;
}
.portal nav {
  display: flex;
  gap: 16px;
  flex: 1;
}
.portal nav a {
  color: var(--soft);
}
.portal nav a.router-link-active {
  color: var(--ink);
}
.portal .who {
  display: flex;
  align-items: center;
  gap: 12px;
}
.portal .el-table {
  --el-table-current-row-bg-color: var(--sheet);
}
.portal .el-empty__image {
  display: none;
}
.portal .el-main {
  max-width: 1100px;
  width: 100%;
  margin: 0 auto;
}
</style>
