<template>
  <div class="page"><h1>Nothing is here</h1><p>The address leads nowhere. <RouterLink to="/documents">Documents</RouterLink>, <RouterLink to="/loads">Loads</RouterLink> and <RouterLink to="/orders">Orders</RouterLink> are what there is.</p></div>
</template>
